import { Button, Checkbox, Flex, Form, Input, Modal, Radio, Select } from "antd";
import { ask, client, type DriverSet } from "../../api/client";
import { useChange } from "../../api/useChange";
import { classes } from "./classes";

/** Makes or changes a set. */
export function SetDialog({ set, close }: { set?: DriverSet; close: () => void }) {
  const [form] = Form.useForm<DriverSet>();
  const system = Form.useWatch("system", form);
  const save = useChange((v: DriverSet, seen) => ask(client.PUT("/driver-sets", { body: v, ...seen })), ["driver-sets", "coverage"], (s) => `The set ${s.name} is kept`);
  const submit = () => form.validateFields().then((v) => save.mutate({ ...v, on_demand: v.system === "linux" && !!v.on_demand }, { onSuccess: close }));
  return (
    <Modal open title={set ? `Set ${set.name}` : "New set"} okText="Keep" onOk={() => void submit()} confirmLoading={save.isPending} onCancel={close} width={820}>
      <Form form={form} layout="vertical" initialValues={set ?? { system: "linux", arch: "amd64", rules: [{}] }}>
        <Form.Item name="name" label="Name" rules={[{ required: true, message: "A set needs a name" }]}>
          <Input disabled={!!set} style={{ width: 260 }} />
        </Form.Item>
        <Form.Item name="system" label="For">
          <Radio.Group options={[{ value: "linux", label: "Linux, and the boot environment" }, { value: "windows", label: "Windows" }]} />
        </Form.Item>
        <Form.Item name="arch" hidden>
          <Input />
        </Form.Item>
        <Form.List name="rules">
          {(rows, { add, remove }) => (
            <Flex vertical gap={4}>
              <span>A package belongs to it if it fits one of these, in all that it says (wildcards * and ?):</span>
              {rows.map((row) => (
                <Flex key={row.key} gap={8}>
                  <Form.Item name={[row.name, "class"]} noStyle>
                    <Select allowClear placeholder="any class" style={{ width: 130 }} options={classes.map((value) => ({ value, label: value }))} />
                  </Form.Item>
                  {["provider", "package", "model"].map((field) => (
                    <Form.Item key={field} name={[row.name, field]} noStyle>
                      <Input placeholder={field === "model" ? "model of workstations" : field} />
                    </Form.Item>
                  ))}
                  <Button onClick={() => remove(row.name)} disabled={rows.length === 1}>
                    Remove
                  </Button>
                </Flex>
              ))}
              <Button onClick={() => add({})} style={{ width: 160 }}>
                One more rule
              </Button>
            </Flex>
          )}
        </Form.List>
        <Flex vertical style={{ marginTop: 16 }}>
          <Form.Item name="fallback" valuePropName="checked" noStyle>
            <Checkbox>Only for devices that no other set serves</Checkbox>
          </Form.Item>
          {system === "linux" && (
            <Form.Item name="on_demand" valuePropName="checked" noStyle>
              <Checkbox>Add to the boot environment of each workstation what its model needs, when it boots</Checkbox>
            </Form.Item>
          )}
        </Flex>
      </Form>
    </Modal>
  );
}
