import { Form, Input, Modal } from "antd";
import { ask, client, type SetAnswer } from "../../api/client";
import { useChange } from "../../api/useChange";
import { AnswerFields, answerOf, type AnswerValues } from "../../parts/AnswerFields";
import { inLine, isQuestion } from "../../parts/answerValue";

interface Values extends AnswerValues {
  of: string;
}

/** What is in the fields for a value that is set. */
function fieldsOf(answer: Partial<SetAnswer>) {
  if (isQuestion(answer.value)) return { question: answer.value.ask, value: answer.value.default ?? "" };
  return { value: answer.secret || answer.key === undefined ? "" : inLine(answer.value) };
}

/** Sets one answer in one place. */
export function SetDialog({ answer, close }: { answer: Partial<SetAnswer>; close: () => void }) {
  const [form] = Form.useForm<Values>();
  const set = useChange((v: Values, seen) => ask(client.PUT("/answers", { body: { of: v.of, values: answerOf(v) }, ...seen })), ["answers"]);
  const submit = () => form.validateFields().then((v) => set.mutate(v, { onSuccess: close }));
  return (
    <Modal open title="Set an answer" okText="Set" onCancel={close} confirmLoading={set.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ of: answer.of, key: answer.key, ...fieldsOf(answer) }}>
        <Form.Item name="of" label="For" extra="A group or workstation by its name; service; model:NAME; or image:NAME" rules={[{ required: true, message: "For whom?" }]}>
          <Input disabled={!!answer.of} placeholder="herbarium" />
        </Form.Item>
        <AnswerFields fixed={!!answer.key} />
      </Form>
    </Modal>
  );
}
