import { Form, Input, Modal } from "antd";
import { ask, client } from "../../api/client";
import { useChange } from "../../api/useChange";

interface Given {
  name: string;
  where?: string;
}

/** Makes a group: an empty one, or one that a condition fills. */
export function AddRoomDialog({ close }: { close: () => void }) {
  const [form] = Form.useForm<Given>();
  const add = useChange((v: Given) => ask(client.POST("/groups", { body: { name: v.name, where: v.where || undefined } })), ["groups"], (g) => `${g.name} is there.`);
  return (
    <Modal open title="Add a room" okText="Add" onCancel={close} confirmLoading={add.isPending} onOk={() => void form.validateFields().then((v) => add.mutate(v, { onSuccess: close }))}>
      <Form name="room" form={form} layout="vertical">
        <Form.Item name="name" label="Name of the group" rules={[{ required: true, message: "How is it called?" }]}>
          <Input autoFocus placeholder="herbarium" />
        </Form.Item>
        <Form.Item name="where" label="Fills itself with whoever fits" extra="A condition over the roster. Empty: people put workstations into it.">
          <Input placeholder='field.room startsWith "2."' />
        </Form.Item>
      </Form>
    </Modal>
  );
}
