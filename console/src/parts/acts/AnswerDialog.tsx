import { Form, Modal } from "antd";
import { ask, client, type Workstation } from "../../api/client";
import { AnswerFields, answerOf, type AnswerValues } from "../AnswerFields";
import { inWords } from "./chosen";
import { useEach } from "./useEach";

/** Sets one answer for each of the chosen workstations. */
export function AnswerDialog({ chosen, close }: { chosen: Workstation[]; close: () => void }) {
  const [form] = Form.useForm<AnswerValues>();
  const each = useEach<{ name: string; values: ReturnType<typeof answerOf> }>(
    (w) => w.name,
    ({ name, values }) => ask(client.PUT("/answers", { body: { of: `workstation:${name}`, values } })),
    ["answers"],
  );
  const submit = () => form.validateFields().then((v) => each.run(chosen.map(({ name }) => ({ name, values: answerOf(v) })), (n) => (chosen.length === 1 ? `${inWords(chosen)} has its answer.` : `${n} of ${chosen.length} workstations have their answer.`), close));
  return (
    <Modal open title={`Set an answer for ${inWords(chosen)}`} okText="Set" onCancel={close} confirmLoading={each.running} onOk={() => void submit()}>
      {chosen.length > 1 && <p>It is set for each of them. What a whole group should have is better set for the group, where it counts for whoever comes later too.</p>}
      <Form name="answer" form={form} layout="vertical" disabled={each.running}>
        <AnswerFields />
      </Form>
      {each.shown}
    </Modal>
  );
}
