import { useQuery } from "@tanstack/react-query";
import { Form, Input, Select } from "antd";
import { ask, client } from "../api/client";

export interface AnswerValues {
  key: string;
  value?: string;
  question?: string;
}

/** The value as the service takes it: a text, or a question with the text as its default. */
export const answerOf = (v: AnswerValues) => ({ [v.key]: v.question ? { ask: v.question, default: v.value || undefined } : v.value });

/** The fields of a form for one answer: which, and what it is. */
export function AnswerFields({ fixed = false }: { fixed?: boolean }) {
  const keys = useQuery({ queryKey: ["answer-keys"], queryFn: () => ask(client.GET("/answer-keys")) }).data?.items ?? [];
  const chosen = Form.useWatch<string | undefined>("key");
  const question = Form.useWatch<string | undefined>("question");
  const key = keys.find((k) => k.key === chosen);
  return (
    <>
      <Form.Item name="key" label="Answer" extra={key?.description} rules={[{ required: true, message: "Which?" }]}>
        <Select showSearch disabled={fixed} options={keys.map((k) => ({ value: k.key, label: k.key }))} />
      </Form.Item>
      <Form.Item name="value" label="Value" extra={key && <Example of={key.form} text={key.example} />} rules={[{ required: !question, message: "What?" }]}>
        <Input.TextArea rows={3} />
      </Form.Item>
      {key?.can_be_asked && (
        <Form.Item name="question" label="Ask at the workstation instead" extra="A question, put at its screen before anything is written; the value is then what counts if nothing is typed.">
          <Input placeholder="Where does it stand?" />
        </Form.Item>
      )}
    </>
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
