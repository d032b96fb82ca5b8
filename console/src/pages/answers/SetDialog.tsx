import { Form, Input, Modal, Select } from "antd";
import { ask, client, type SetAnswer } from "../../api/client";
import { useChange } from "../../api/useChange";
import { inLine, typed } from "./value";

/** Keys with what a value looks like. */
const keys = {
  computer_name: "herb-01",
  description: "Herbarium, by the window",
  time_zone: "Europe/Vienna",
  locale: "de_AT",
  keyboard: "de(nodeadkeys)",
  registered_owner: "Fennholt Botanic Garden",
  organisation: "Fennholt Botanic Garden",
  product_key: "AAAAA-BBBBB-CCCCC-DDDDD-EEEEE",
  accounts: '[{"name": "scan", "password_hash": "$6$…"}]',
  root_ssh_keys: '["ssh-ed25519 AAAA… holm"]',
  remote_access: "true",
  network: '[{"addresses": ["192.0.2.31/24"], "gateway": "192.0.2.1"}]',
  proxy: "http://192.0.2.8:3128",
  files: '[{"path": "/etc/motd", "content": "…"}]',
  commands: '["systemctl enable --now scanner.service"]',
};

interface Values {
  of: string;
  key: keyof typeof keys;
  value: string;
}

/** Sets one answer in one place. */
export function SetDialog({ answer, close }: { answer: Partial<SetAnswer>; close: () => void }) {
  const [form] = Form.useForm<Values>();
  const key = Form.useWatch("key", form);
  const set = useChange((v: Values) => ask(client.PUT("/answers", { body: { of: v.of, values: { [v.key]: typed(v.value) } } })), ["answers"]);
  const submit = () => form.validateFields().then((v) => set.mutate(v, { onSuccess: close }));
  return (
    <Modal open title="Set an answer" okText="Set" onCancel={close} confirmLoading={set.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ of: answer.of, key: answer.key, value: answer.secret || answer.key === undefined ? "" : inLine(answer.answer_value) }}>
        <Form.Item name="of" label="For" extra="A group or workstation by its name; service; model:NAME; or image:NAME" rules={[{ required: true, message: "For whom?" }]}>
          <Input disabled={!!answer.of} placeholder="herbarium" />
        </Form.Item>
        <Form.Item name="key" label="Answer" rules={[{ required: true, message: "Which?" }]}>
          <Select showSearch disabled={!!answer.key} options={Object.keys(keys).map((value) => ({ value, label: value }))} />
        </Form.Item>
        <Form.Item name="value" label="Value" extra={key && `Such as ${keys[key]}`} rules={[{ required: true, message: "What?" }]}>
          <Input.TextArea autoSize={{ minRows: 1, maxRows: 12 }} />
        </Form.Item>
      </Form>
    </Modal>
  );
}
