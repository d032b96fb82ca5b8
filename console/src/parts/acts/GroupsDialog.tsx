import { Form, Modal, Radio } from "antd";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { GroupSelect } from "../GroupSelect";
import { inWords, refs } from "./chosen";

interface Move {
  way: "include" | "exclude";
  group: string;
}

/** Puts workstations into a group, or takes them out of one: all or none. */
export function GroupsDialog({ chosen, close }: { chosen: Workstation[]; close: () => void }) {
  const [form] = Form.useForm<Move>();
  const move = useChange(
    ({ way, group }: Move) => {
      const call = { params: { path: { group } }, body: { workstations: refs(chosen) } };
      return ask(way === "include" ? client.POST("/groups/{group}/include", call) : client.POST("/groups/{group}/exclude", call));
    },
    ["workstations", "groups"],
    (g) => `${g.name} has ${g.workstation_count} workstations now.`,
  );
  const submit = () => form.validateFields().then((v) => move.mutate(v, { onSuccess: close }));
  return (
    <Modal open title={`The groups of ${inWords(chosen)}`} okText="Change" onCancel={close} confirmLoading={move.isPending} onOk={() => void submit()}>
      <Form name="move" form={form} layout="vertical" initialValues={{ way: "include" }}>
        <Form.Item name="way" label={chosen.length === 1 ? "It is" : "They are"}>
          <Radio.Group
            options={[
              { value: "include", label: "put into" },
              { value: "exclude", label: "taken out of" },
            ]}
          />
        </Form.Item>
        <Form.Item name="group" label="This group" rules={[{ required: true, message: "Which group?" }]}>
          <GroupSelect placeholder="Group" />
        </Form.Item>
      </Form>
    </Modal>
  );
}
