import { Button, Flex, Form, InputNumber, Modal, Popconfirm } from "antd";
import { useState } from "react";
import { ask, client, type Delivery } from "../../api/client";
import { useChange } from "../../api/useChange";
import { TargetSelect } from "../../parts/TargetSelect";

const changed = ["deliveries", "delivery"];

/** What can be done to a delivery that is not over. */
export function Controls({ delivery: d }: { delivery: Delivery }) {
  const [open, setOpen] = useState<"rate" | "extend">();
  const path = { params: { path: { delivery: d.id } } };
  const hold = useChange(() => ask(d.paused ? client.POST("/deliveries/{delivery}/resume", path) : client.POST("/deliveries/{delivery}/pause", path)), changed);
  const stop = useChange(() => ask(client.POST("/deliveries/{delivery}/stop", path)), changed);
  return (
    <Flex gap={8}>
      <Button size="small" loading={hold.isPending} onClick={() => hold.mutate(undefined)}>
        {d.paused ? "Go on" : "Pause"}
      </Button>
      <Button size="small" onClick={() => setOpen("rate")}>
        Rate
      </Button>
      <Button size="small" onClick={() => setOpen("extend")}>
        Extend
      </Button>
      <Popconfirm
        title="Stop this delivery?"
        description="Workstations that are not through are left without a partition table."
        okText="Stop"
        onConfirm={() => stop.mutate(undefined)}
      >
        <Button danger size="small" loading={stop.isPending}>
          Stop
        </Button>
      </Popconfirm>
      {open === "rate" && <RateDialog delivery={d} close={() => setOpen(undefined)} />}
      {open === "extend" && <ExtendDialog delivery={d} close={() => setOpen(undefined)} />}
    </Flex>
  );
}

function RateDialog({ delivery: d, close }: { delivery: Delivery; close: () => void }) {
  const [form] = Form.useForm<{ mbit: number }>();
  const change = useChange((mbit: number) => ask(client.PUT("/deliveries/{delivery}/rate", { params: { path: { delivery: d.id } }, body: { rate: mbit * 1e6 } })), changed);
  const submit = () => form.validateFields().then((v) => change.mutate(v.mbit, { onSuccess: close }));
  return (
    <Modal open title="Rate of the stream" okText="Set" onCancel={close} confirmLoading={change.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ mbit: d.rate / 1e6 }}>
        <Form.Item name="mbit" label="What the slowest port on the way carries" rules={[{ required: true, message: "How many?" }]}>
          <InputNumber min={1} max={100000} suffix="Mbit/s" style={{ width: 200 }} />
        </Form.Item>
      </Form>
    </Modal>
  );
}

function ExtendDialog({ delivery: d, close }: { delivery: Delivery; close: () => void }) {
  const [form] = Form.useForm<{ to: string[] }>();
  const change = useChange((to: string[]) => ask(client.POST("/deliveries/{delivery}/workstations", { params: { path: { delivery: d.id } }, body: { to } })), changed);
  const submit = () => form.validateFields().then((v) => change.mutate(v.to, { onSuccess: close }));
  return (
    <Modal open title="Bring it to more workstations" okText="Extend" onCancel={close} confirmLoading={change.isPending} onOk={() => void submit()}>
      <p>They join the stream at once and get afterwards what has gone out already. Their disks are overwritten.</p>
      <Form form={form} layout="vertical">
        <TargetSelect />
      </Form>
    </Modal>
  );
}
