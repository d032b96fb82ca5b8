import { Checkbox, Form, Modal, Radio } from "antd";
import { ask, client, type NewCheck, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { inWords, refs, they } from "./chosen";

type Checked = Pick<NewCheck, "memory_walk" | "surface" | "health_too" | "network">;

/** Has workstations check themselves. */
export function CheckDialog({ chosen, close }: { chosen: Workstation[]; close: () => void }) {
  const [form] = Form.useForm<Checked>();
  const check = useChange(
    (v: Checked) => ask(client.POST("/checks", { body: { ...v, to: refs(chosen), disk: "only", when_done: "stay" } as NewCheck })),
    ["errands"],
    () => `${they(chosen, "checks itself", "check themselves")} as soon as ${chosen.length === 1 ? "it is" : "they are"} in the boot environment; Errands show what is found.`,
  );
  return (
    <Modal open title={`Check ${inWords(chosen)}`} okText={chosen.length === 1 ? "Check it" : "Check them"} onCancel={close} confirmLoading={check.isPending} onOk={() => check.mutate(form.getFieldsValue(), { onSuccess: close })}>
      <Form name="check" form={form} layout="vertical" initialValues={{ memory_walk: "none", surface: "sample", health_too: true, network: true }}>
        <Form.Item name="surface" label="The surface of the disk">
          <Radio.Group options={[{ value: "none", label: "not" }, { value: "sample", label: "some of each part" }, { value: "whole", label: "all of it" }]} />
        </Form.Item>
        <Form.Item name="memory_walk" label="All free memory">
          <Radio.Group options={[{ value: "none", label: "not" }, { value: "quick", label: "two patterns" }, { value: "full", label: "six patterns" }]} />
        </Form.Item>
        <Form.Item name="health_too" valuePropName="checked" noStyle>
          <Checkbox>What the disk says of its health</Checkbox>
        </Form.Item>
        <br />
        <Form.Item name="network" valuePropName="checked" noStyle>
          <Checkbox>The network: its rate, and whether multicast is heard</Checkbox>
        </Form.Item>
      </Form>
    </Modal>
  );
}
