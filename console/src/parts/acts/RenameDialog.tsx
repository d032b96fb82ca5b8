import { Form, Input, Modal } from "antd";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";

/** Gives a workstation another name. */
export function RenameDialog({ chosen: [workstation], close }: { chosen: Workstation[]; close: (to?: string) => void }) {
  const [form] = Form.useForm<{ name: string }>();
  const rename = useChange(
    (name: string) => ask(client.POST("/workstations/{workstation}/rename", { params: { path: { workstation: workstation.name } }, body: { name } })),
    ["workstations"],
    (w) => `${workstation.name} is called ${w.name} now.`,
  );
  const submit = () => form.validateFields().then((v) => rename.mutate(v.name, { onSuccess: (w) => close(w.name) }));
  return (
    <Modal open title={`Rename ${workstation.name}`} okText="Rename" onCancel={() => close()} confirmLoading={rename.isPending} onOk={() => void submit()}>
      <p>Its receipts keep the name that they were written with.</p>
      <Form form={form} layout="vertical" onFinish={() => void submit()}>
        <Form.Item name="name" label="New name" initialValue={workstation.name} rules={[{ required: true, message: "How is it to be called?" }]}>
          <Input autoFocus />
        </Form.Item>
      </Form>
    </Modal>
  );
}
