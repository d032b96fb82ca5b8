import { useQuery } from "@tanstack/react-query";
import { Form, Input, Modal, Select } from "antd";
import { ask, client, type SetAnswer } from "../../api/client";
import { useChange } from "../../api/useChange";
import { inLine, isQuestion } from "./value";

interface Values {
  of: string;
  key: string;
  value?: string;
  question?: string;
}

/** The value as the service takes it: a text, or a question with the text as its default. */
const valueOf = (v: Values) => (v.question ? { ask: v.question, default: v.value || undefined } : v.value);

/** What is in the fields for a value that is set. */
function fieldsOf(answer: Partial<SetAnswer>) {
  if (isQuestion(answer.value)) return { question: answer.value.ask, value: answer.value.default ?? "" };
  return { value: answer.secret || answer.key === undefined ? "" : inLine(answer.value) };
}

/** Sets one answer in one place. */
export function SetDialog({ answer, close }: { answer: Partial<SetAnswer>; close: () => void }) {
  const [form] = Form.useForm<Values>();
  const keys = useQuery({ queryKey: ["answer-keys"], queryFn: () => ask(client.GET("/answer-keys")) }).data?.items ?? [];
  const chosen = Form.useWatch("key", form);
  const key = keys.find((k) => k.key === chosen);
  const question = Form.useWatch("question", form);
  const set = useChange((v: Values) => ask(client.PUT("/answers", { body: { of: v.of, values: { [v.key]: valueOf(v) } } })), ["answers"]);
  const submit = () => form.validateFields().then((v) => set.mutate(v, { onSuccess: close }));
  return (
    <Modal open title="Set an answer" okText="Set" onCancel={close} confirmLoading={set.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ of: answer.of, key: answer.key, ...fieldsOf(answer) }}>
        <Form.Item name="of" label="For" extra="A group or workstation by its name; service; model:NAME; or image:NAME" rules={[{ required: true, message: "For whom?" }]}>
          <Input disabled={!!answer.of} placeholder="herbarium" />
        </Form.Item>
        <Form.Item name="key" label="Answer" extra={key?.description} rules={[{ required: true, message: "Which?" }]}>
          <Select showSearch disabled={!!answer.key} options={keys.map((k) => ({ value: k.key, label: k.key }))} />
        </Form.Item>
        <Form.Item name="value" label="Value" extra={key && <Example of={key.form} text={key.example} />} rules={[{ required: !question, message: "What?" }]}>
          <Input.TextArea rows={3} />
        </Form.Item>
        {key?.can_be_asked && (
          <Form.Item name="question" label="Ask at the workstation instead" extra="A question, put at its screen before anything is written; the value is then what counts if nothing is typed.">
            <Input placeholder="Where does it stand?" />
          </Form.Item>
        )}
      </Form>
    </Modal>
  );
}

function Example({ of, text }: { of: string; text: string }) {
  return (
    <>
      {`Form: ${of}, such as`}
      <pre style={{ margin: 0 }}>{text}</pre>
    </>
  );
}
