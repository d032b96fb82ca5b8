import { Alert, Checkbox, Flex, Form, Input, InputNumber, Modal, Radio, Select } from "antd";
import { useState } from "react";
import { ask, client, type Order } from "../../api/client";
import { useChange } from "../../api/useChange";
import { SearchSelect } from "../../parts/SearchSelect";
import { TargetSelect } from "../../parts/TargetSelect";
import { CommandFields, commandOf, type FilledCommand } from "./CommandFields";

type Kind = "deliver" | "capture" | "clone";

interface Filled {
  order: string;
  note?: string;
  workstation: string;
  image: string;
  to: string[];
  reuse?: boolean;
  wait_minutes?: number;
  when_done: "stay" | "restart" | "power-off";
  wake?: boolean;
  when_behind?: boolean;
  check_first?: boolean;
  command?: FilledCommand;
  when?: string;
  zone?: string;
  when_missed: "run" | "skip";
}

const kinds = [
  { value: "deliver", label: "deliver" },
  { value: "capture", label: "capture" },
  { value: "clone", label: "capture, then deliver" },
];

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

const findWorkstations = async (search?: string) =>
  (await ask(client.GET("/workstations", { params: { query: { state: ["admitted"], sort: "name", search, limit: 50 } } }))).items.map((w) => ({ value: w.name, label: w.name }));

/** The order that was filled in. */
function orderOf(kind: Kind, f: Filled): Order {
  const common = { order: f.order, note: f.note, wake: f.wake, when_behind: kind === "deliver" ? f.when_behind : undefined, schedule: f.when ? { when: f.when, zone: f.zone, when_missed: f.when_missed } : undefined };
  const capture = kind === "deliver" ? undefined : { workstation: f.workstation, image: f.image };
  const deliver = kind === "capture" ? undefined : { image: f.image, to: f.to, reuse: f.reuse, when_done: f.when_done, wait_minutes: f.wait_minutes ?? undefined };
  const check = kind === "deliver" && f.check_first ? { to: f.to, surface: "sample", health_too: true, network: true, wait_minutes: f.wait_minutes ?? undefined } : undefined;
  return { ...common, capture, check, deliver, commands: commandOf(f.command, kind === "deliver" ? "deliver" : "capture") } as Order;
}

/** Prepares an order, perhaps for those that were chosen elsewhere. */
export function AddDialog({ to, close }: { to?: string[]; close: () => void }) {
  const [form] = Form.useForm<Filled>();
  const [kind, setKind] = useState<Kind>("deliver");
  const save = useChange(
    (o: Order) => ask(client.PUT("/orders", { body: o })),
    ["orders"],
    (s) => `${s.kept_order.order} is kept`,
  );
  const taken = async (name?: string) => {
    const found = await ask(client.GET("/orders", { params: { query: { search: name, limit: 1000 } } }));
    if (found.items.some((o) => o.order.toLowerCase() === name?.toLowerCase())) throw new Error(`There is an order ${name} already: another name, or remove that one first.`);
  };
  const submit = () => form.validateFields().then((f) => save.mutate(orderOf(kind, f), { onSuccess: close }));
  return (
    <Modal open style={{ top: 24 }} title="Prepare an order" okText="Keep it" onCancel={close} confirmLoading={save.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ when_done: "stay", when_missed: "skip", zone, command: { place: "system" }, to }}>
        <Form.Item name="order" label="Name" validateTrigger="onBlur" rules={[{ required: true, message: "How is it called?" }, { validator: (_, name?: string) => taken(name) }]}>
          <Input placeholder="herbarium-weekly" />
        </Form.Item>
        <Form.Item label="It is to">
          <Radio.Group options={kinds} value={kind} onChange={(e) => setKind(e.target.value as Kind)} />
        </Form.Item>
        {kind !== "deliver" && (
          <Form.Item name="workstation" label="Golden machine" rules={[{ required: true, message: "Which workstation?" }]}>
            <SearchSelect name="workstations" find={findWorkstations} placeholder="desk-gold" />
          </Form.Item>
        )}
        <Form.Item name="image" label="Image" extra={kind === "deliver" ? "NAME for the newest version, or NAME@VERSION" : "A new name begins a new image."} rules={[{ required: true, message: "Which image?" }]}>
          <Input placeholder="garden-desk" />
        </Form.Item>
        {kind !== "capture" && <DeliveryFields />}
        {kind === "deliver" && (
          <>
            <Form.Item name="check_first" valuePropName="checked" style={{ marginBottom: 8 }}>
              <Checkbox>Check each first: disk and network. Who does not pass is taken out</Checkbox>
            </Form.Item>
            <Form.Item name="when_behind" valuePropName="checked" style={{ marginBottom: 8 }}>
              <Checkbox>Run by itself for whoever appears and does not have what its group should have</Checkbox>
            </Form.Item>
          </>
        )}
        <CommandFields main={kind === "deliver" ? "delivery" : "capture"} />
        <Form.Item name="wake" valuePropName="checked">
          <Checkbox>Switch the workstations on over the network first</Checkbox>
        </Form.Item>
        <Flex gap={12}>
          <Form.Item name="when" label="By itself" style={{ flex: 1 }} extra="Leave it empty to run it by hand: weekdays 18:30, first monday 06:00, once 2026-12-24 12:00">
            <Input placeholder="weekdays 18:30" />
          </Form.Item>
          <Form.Item name="zone" label="By the clock of" style={{ width: 170 }}>
            <Input />
          </Form.Item>
        </Flex>
        <Form.Item name="when_missed" label="If the service did not run then">
          <Select
            options={[
              { value: "skip", label: "leave it out, and say so" },
              { value: "run", label: "run as soon as that can be" },
            ]}
          />
        </Form.Item>
        <Form.Item name="note" label="Note">
          <Input placeholder="the scanning room, each Monday" />
        </Form.Item>
        <Alert type="info" showIcon title="Everything else that an order can have is in its file: jugate order edit, order import." />
      </Form>
    </Modal>
  );
}

function DeliveryFields() {
  return (
    <>
      <TargetSelect />
      <Flex gap={12}>
        <Form.Item name="wait_minutes" label="Waits at the most, in minutes" style={{ flex: 1 }}>
          <InputNumber min={1} max={43200} placeholder="60" style={{ width: "100%" }} />
        </Form.Item>
        <Form.Item name="when_done" label="Then the workstations" style={{ flex: 1 }}>
          <Select options={["stay", "restart", "power-off"].map((value) => ({ value, label: value }))} />
        </Form.Item>
      </Flex>
      <Form.Item name="reuse" valuePropName="checked">
        <Checkbox>Send only what differs from what is on their disks</Checkbox>
      </Form.Item>
    </>
  );
}
