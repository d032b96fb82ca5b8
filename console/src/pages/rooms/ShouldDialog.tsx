import { Form, Input, Modal } from "antd";
import { ask, client } from "../../api/client";
import { useChange } from "../../api/useChange";

/** Says what the workstations of a group should have. */
export function ShouldDialog({ group, image, close }: { group: string; image: string; close: () => void }) {
  const [form] = Form.useForm<{ image?: string }>();
  const say = useChange(
    (v: { image?: string }, seen) => ask(client.PUT("/groups/{group}/image", { params: { path: { group } }, body: { image: v.image ?? "" }, ...seen })),
    ["groups", "workstations"],
  );
  return (
    <Modal open title={`What ${group} should have`} okText="Say so" onCancel={close} confirmLoading={say.isPending} onOk={() => void form.validateFields().then((v) => say.mutate(v, { onSuccess: close }))}>
      <p>Nothing is delivered by that. Who does not have it is behind; an order can bring it by itself.</p>
      <Form name="should" form={form} layout="vertical" initialValues={{ image }}>
        <Form.Item name="image" label="Image" extra="NAME for the newest version in use, or NAME@VERSION; empty says nothing any more.">
          <Input autoFocus allowClear placeholder="garden-desk" />
        </Form.Item>
      </Form>
    </Modal>
  );
}
