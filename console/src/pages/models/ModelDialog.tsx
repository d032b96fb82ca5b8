import { Button, Flex, Form, Input, Modal } from "antd";
import { ask, client, type Model } from "../../api/client";
import { useChange } from "../../api/useChange";

interface Fields extends Omit<Model, "wanted_settings"> {
  settings: { name: string; value: string }[];
}

/** Says what is known of a model. */
export function ModelDialog({ before, close }: { before?: Model; close: () => void }) {
  const [form] = Form.useForm<Fields>();
  const set = useChange(
    ({ settings, ...f }: Fields, seen) => ask(client.PUT("/model", { body: { ...f, wanted_settings: Object.fromEntries(settings.map((s) => [s.name, s.value])) }, ...seen })),
    ["models", "model"],
    (m) => `${m.model}: noted.`,
  );
  const settings = Object.entries(before?.wanted_settings ?? {}).map(([name, value]) => ({ name, value }));
  const submit = () =>
    form.validateFields().then(({ model, boot_key, setup_key, needs_adapter, wanted_firmware, note, settings }) => set.mutate({ model, boot_key, setup_key, needs_adapter, wanted_firmware, note, settings } as Fields, { onSuccess: close }));
  return (
    <Modal open style={{ top: 24 }} title={before ? before.model : "Add a model"} okText="Keep" onCancel={close} confirmLoading={set.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ ...before, settings }}>
        <Form.Item name="model" label="Maker and model" extra={before ? undefined : "As the firmware tells them"} hidden={!!before} rules={[{ required: true, message: "Which?" }]}>
          <Input placeholder="Alder Works A310" />
        </Form.Item>
        <Flex gap={16}>
          <Form.Item name="boot_key" label="Boot key" extra="To boot over the network" style={{ flex: 1 }}>
            <Input placeholder="F12" />
          </Form.Item>
          <Form.Item name="setup_key" label="Setup key" extra="To get into the firmware" style={{ flex: 1 }}>
            <Input placeholder="F2" />
          </Form.Item>
        </Flex>
        <Form.Item name="needs_adapter" label="Network adapter" extra="That it needs, and where it goes">
          <Input placeholder="USB-C adapter, in the left port" />
        </Form.Item>
        <Form.Item name="wanted_firmware" label="Version of the firmware" extra="That its machines are to have; empty if any will do">
          <Input placeholder="1.14.2" />
        </Form.Item>
        <Form.List name="settings">
          {(rows, { add, remove }) => (
            <Form.Item label="Settings of the firmware that they are to have">
              {rows.map((row) => (
                <Flex key={row.key} gap={8} style={{ marginBottom: 8 }}>
                  <Form.Item name={[row.name, "name"]} noStyle rules={[{ required: true, message: "Which?" }]}>
                    <Input placeholder="Secure Boot" aria-label="Setting" />
                  </Form.Item>
                  <Form.Item name={[row.name, "value"]} noStyle rules={[{ required: true, message: "What is it to be?" }]}>
                    <Input placeholder="Enabled" aria-label="Its value" />
                  </Form.Item>
                  <Button aria-label="Remove this setting" onClick={() => remove(row.name)}>
                    ×
                  </Button>
                </Flex>
              ))}
              <Button size="small" onClick={() => add({})}>
                Another setting
              </Button>
            </Form.Item>
          )}
        </Form.List>
        <Form.Item name="note" label="Note">
          <Input.TextArea rows={3} placeholder="The card needs the lid open." />
        </Form.Item>
      </Form>
    </Modal>
  );
}
