import { Alert, App, Button, Checkbox, Dropdown, Form, Input, InputNumber, Modal, Radio } from "antd";
import { useState } from "react";
import { ask, client, type NewCheck, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { size } from "../../format";

/** What is done to a workstation seldom. */
export function MoreButton({ workstation, retire, size = "small" }: { workstation: Workstation; retire: () => void; size?: "small" | "middle" }) {
  const [dialog, setDialog] = useState<"check" | "wipe" | "tell">();
  const { modal } = App.useApp();
  const ask = () => modal.confirm({ title: `Put ${workstation.name} out of service?`, content: "Its receipts stay.", okText: "Retire", onOk: retire });
  return (
    <>
      <Dropdown
        trigger={["click"]}
        menu={{
          items: [
            { key: "check", label: "Check…", onClick: () => setDialog("check") },
            { key: "tell", label: "Restart or switch off…", disabled: !workstation.helper?.running, title: workstation.helper?.running ? undefined : "Its system is off, or no helper stays on it", onClick: () => setDialog("tell") },
            { key: "retire", label: "Retire…", onClick: ask },
            { key: "wipe", label: "Wipe its disk…", danger: true, onClick: () => setDialog("wipe") },
          ],
        }}
      >
        <Button size={size}>More</Button>
      </Dropdown>
      {dialog === "check" && <CheckDialog workstation={workstation} close={() => setDialog(undefined)} />}
      {dialog === "tell" && <TellDialog workstation={workstation} close={() => setDialog(undefined)} />}
      {dialog === "wipe" && <WipeDialog workstation={workstation} close={() => setDialog(undefined)} />}
    </>
  );
}

type Checked = Pick<NewCheck, "memory_walk" | "surface" | "health_too" | "network">;

function CheckDialog({ workstation: w, close }: { workstation: Workstation; close: () => void }) {
  const [form] = Form.useForm<Checked>();
  const check = useChange(
    (v: Checked) => ask(client.POST("/checks", { body: { ...v, to: [w.name], disk: "only", when_done: "stay" } as NewCheck })),
    ["errands"],
    () => `${w.name} checks itself as soon as it is in the boot environment; Errands show what it finds.`,
  );
  return (
    <Modal open title={`Check ${w.name}`} okText="Check it" onCancel={close} confirmLoading={check.isPending} onOk={() => check.mutate(form.getFieldsValue(), { onSuccess: close })}>
      <Form name="check" form={form} layout="vertical" initialValues={{ memory_walk: "none", surface: "sample", health_too: true, network: true }}>
        <Form.Item name="surface" label="The surface of the disk">
          <Radio.Group options={[{ value: "none", label: "not" }, { value: "sample", label: "some of each part" }, { value: "whole", label: "all of it" }]} />
        </Form.Item>
        <Form.Item name="memory_walk" label="All free memory">
          <Radio.Group options={[{ value: "none", label: "not" }, { value: "quick", label: "two patterns" }, { value: "full", label: "six patterns" }]} />
        </Form.Item>
        <Form.Item name="health_too" valuePropName="checked" noStyle>
          <Checkbox>What the disk says of its health</Checkbox>
        </Form.Item>
        <br />
        <Form.Item name="network" valuePropName="checked" noStyle>
          <Checkbox>The network: its rate, and whether multicast is heard</Checkbox>
        </Form.Item>
      </Form>
    </Modal>
  );
}

interface Telling {
  verb: "restart" | "power-off" | "nothing";
  warn_minutes: number;
  why?: string;
}

/** Reaches the helper on a system that is on. */
function TellDialog({ workstation: w, close }: { workstation: Workstation; close: () => void }) {
  const [form] = Form.useForm<Telling>();
  const tell = useChange((v: Telling) => ask(client.POST("/tell", { body: { ...v, to: [w.name] } })), ["workstations"], (told) => (told.told.length ? `${w.name} was told.` : `There is nothing to tell ${w.name}.`));
  return (
    <Modal open title={`The system of ${w.name}`} okText="Tell it" onCancel={close} confirmLoading={tell.isPending} onOk={() => void form.validateFields().then((v) => tell.mutate(v, { onSuccess: close }))}>
      <Form name="tell" form={form} layout="vertical" initialValues={{ verb: "restart", warn_minutes: 5 }}>
        <Form.Item name="verb" label="It is to">
          <Radio.Group
            options={[
              { value: "restart", label: "restart" },
              { value: "power-off", label: "switch itself off" },
              { value: "nothing", label: "stay on: take back what it was told" },
            ]}
          />
        </Form.Item>
        <Form.Item name="warn_minutes" label="Whoever is signed in has so long to save their work" extra="Where nobody is, it happens at once. After a restart it comes into the boot environment if something waits for it there.">
          <InputNumber min={1} max={1440} suffix="min" style={{ width: 150 }} />
        </Form.Item>
        <Form.Item name="why" label="They read">
          <Input maxLength={200} placeholder="The room gets its new image." />
        </Form.Item>
      </Form>
    </Modal>
  );
}

interface Wiping {
  wipe_method: "clear" | "purge";
  read_back: "sample" | "whole";
  retire?: boolean;
  name: string;
}

/** Asks twice: what is lost is shown, and the name is typed. */
function WipeDialog({ workstation: w, close }: { workstation: Workstation; close: () => void }) {
  const [form] = Form.useForm<Wiping>();
  const wipe = useChange(
    (v: Wiping) => ask(client.POST("/wipes", { body: { wipe_method: v.wipe_method, read_back: v.read_back, retire: v.retire, workstations: [w.name], disk: "only", when_done: "stay" } })),
    ["errands", "workstations"],
    () => `The disk of ${w.name} is wiped as soon as it is in the boot environment; its receipt says how.`,
  );
  const submit = () => form.validateFields().then((v) => wipe.mutate(v, { onSuccess: close }));
  return (
    <Modal open title={`Wipe the disk of ${w.name}`} okText="Wipe it" okButtonProps={{ danger: true }} onCancel={close} confirmLoading={wipe.isPending} onOk={() => void submit()}>
      <Alert
        type="error"
        showIcon
        title={`All that is on it is lost: ${w.image || "something that Jugate has not brought"}, ${w.disk_sizes.map(size).join(" + ")}`}
        style={{ marginBottom: 16 }}
      />
      <Form name="wipe" form={form} layout="vertical" initialValues={{ wipe_method: "clear", read_back: "sample" }}>
        <Form.Item name="wipe_method" label="How far, by NIST SP 800-88">
          <Radio.Group options={[{ value: "clear", label: "clear: overwrite all that can be addressed" }, { value: "purge", label: "purge: what the disk offers" }]} />
        </Form.Item>
        <Form.Item name="read_back" label="Read back">
          <Radio.Group options={[{ value: "sample", label: "a sample" }, { value: "whole", label: "all of it" }]} />
        </Form.Item>
        <Form.Item name="retire" valuePropName="checked">
          <Checkbox>Put it out of service then</Checkbox>
        </Form.Item>
        <Form.Item name="name" label={`Type its name, ${w.name}`} rules={[{ validator: (_, text: string) => (text === w.name ? Promise.resolve() : Promise.reject(new Error(`That is not ${w.name}.`))) }]}>
          <Input autoComplete="off" />
        </Form.Item>
      </Form>
    </Modal>
  );
}
