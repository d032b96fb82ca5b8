import { Form, Input, InputNumber, Modal, Switch } from "antd";
import { ask, client, type Outpost } from "../../api/client";
import { useChange } from "../../api/useChange";

type Line = { mbit?: number | null; hours?: string; note?: string; sealed: boolean; signIn?: number | null };

/** How the line of an outpost may be used, and its disk. */
export function LineDialog({ outpost: o, close }: { outpost: Outpost; close: () => void }) {
  const [form] = Form.useForm<Line>();
  const change = useChange(
    (v: Line, seen) =>
      ask(
        client.PATCH("/outposts/{outpost}", {
          params: { path: { outpost: o.outpost } },
          body: { line_rate: Math.round((v.mbit ?? 0) * 1e6), ahead_hours: v.hours ?? "", note: v.note ?? "", sealed_slabs: v.sealed, sign_in_hours: v.signIn ?? 0 },
          ...seen,
        }),
      ),
    ["outposts"],
  );
  return (
    <Modal open title={`The line of ${o.outpost}`} okText="Change" onCancel={close} confirmLoading={change.isPending} onOk={() => void form.validateFields().then((v) => change.mutate(v, { onSuccess: close }))}>
      <Form form={form} layout="vertical" initialValues={{ mbit: o.line_rate ? o.line_rate / 1e6 : undefined, hours: o.ahead_hours, note: o.note, sealed: o.sealed_slabs, signIn: o.sign_in_hours }}>
        <Form.Item name="mbit" label="What may come over it, in Mbit/s" extra="Empty for no bound.">
          <InputNumber min={0.1} max={1_000_000} placeholder="20" />
        </Form.Item>
        <Form.Item
          name="hours"
          label="When versions come ahead of time"
          extra="By the clock there; empty for at any hour. What somebody waits for comes at any hour."
          rules={[{ pattern: /^(([01][0-9]|2[0-3]):[0-5][0-9]-([01][0-9]|2[0-3]):[0-5][0-9])?$/, message: "Such as 20:00-06:00." }]}
        >
          <Input autoComplete="off" placeholder="20:00-06:00" />
        </Form.Item>
        <Form.Item name="sealed" label="Seal slabs on its disk" valuePropName="checked" extra="By a key that is not there: a stolen disk tells nothing of them. It needs the service to start.">
          <Switch />
        </Form.Item>
        <Form.Item name="signIn" label="Hours for which people may sign in while it is cut" extra="Those who have signed in there by name and password before. What they choose is ordered when it is back. 0 for nobody.">
          <InputNumber min={0} max={720} precision={0} />
        </Form.Item>
        <Form.Item name="note" label="Note">
          <Input autoComplete="off" />
        </Form.Item>
      </Form>
    </Modal>
  );
}
