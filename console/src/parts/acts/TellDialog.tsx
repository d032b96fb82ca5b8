import { Form, Input, InputNumber, Modal, Radio } from "antd";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { inWords, refs } from "./chosen";

interface Telling {
  verb: "restart" | "power-off" | "nothing";
  warn_minutes: number;
  why?: string;
}

/** Reaches the helper on systems that are on. */
export function TellDialog({ chosen, close }: { chosen: Workstation[]; close: () => void }) {
  const [form] = Form.useForm<Telling>();
  const tell = useChange(
    (v: Telling) => ask(client.POST("/tell", { body: { ...v, to: refs(chosen) } })),
    ["workstations"],
    ({ told }) => (chosen.length === 1 ? (told.length ? `${inWords(chosen)} was told.` : `There is nothing to tell ${inWords(chosen)}.`) : `${told.length} of ${chosen.length} were told; on the others no helper runs.`),
  );
  return (
    <Modal open title={`The system of ${inWords(chosen)}`} okText={chosen.length === 1 ? "Tell it" : "Tell them"} onCancel={close} confirmLoading={tell.isPending} onOk={() => void form.validateFields().then((v) => tell.mutate(v, { onSuccess: close }))}>
      <Form name="tell" form={form} layout="vertical" initialValues={{ verb: "restart", warn_minutes: 5 }}>
        <Form.Item name="verb" label="It is to">
          <Radio.Group
            options={[
              { value: "restart", label: "restart" },
              { value: "power-off", label: "switch itself off" },
              { value: "nothing", label: "stay on: take back what it was told" },
            ]}
          />
        </Form.Item>
        <Form.Item name="warn_minutes" label="Whoever is signed in has so long to save their work" extra="Where nobody is, it happens at once. After a restart it comes into the boot environment if something waits for it there.">
          <InputNumber min={1} max={1440} suffix="min" style={{ width: 150 }} />
        </Form.Item>
        <Form.Item name="why" label="They read">
          <Input maxLength={200} placeholder="The room gets its new image." />
        </Form.Item>
      </Form>
    </Modal>
  );
}
