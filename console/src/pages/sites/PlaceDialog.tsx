import { Form, Input, InputNumber, Modal, Segmented } from "antd";
import { useState } from "react";
import { ask, client, type NewPlacement, type Outpost } from "../../api/client";
import { useChange } from "../../api/useChange";

/** Has an outpost hold versions ahead of time. */
export function PlaceDialog({ outpost: o, close }: { outpost: Outpost; close: () => void }) {
  const [form] = Form.useForm<NewPlacement>();
  const [by, setBy] = useState<"image" | "group">("image");
  const place = useChange((v: NewPlacement) => ask(client.POST("/outposts/{outpost}/placements", { params: { path: { outpost: o.outpost } }, body: v })), ["outposts"]);
  return (
    <Modal open title={`Hold at ${o.outpost}`} okText="Place" onCancel={close} confirmLoading={place.isPending} onOk={() => void form.validateFields().then((v) => place.mutate(v, { onSuccess: close }))}>
      <Segmented
        style={{ marginBottom: 16 }}
        value={by}
        onChange={setBy}
        options={[
          { value: "image", label: "An image" },
          { value: "group", label: "Every image of a group" },
        ]}
      />
      <Form form={form} layout="vertical" initialValues={{ newest: 1 }}>
        {by === "image" ? (
          <Form.Item key="image" name="image" label="Image" rules={[{ required: true }]}>
            <Input autoComplete="off" autoFocus placeholder="garden-desk" />
          </Form.Item>
        ) : (
          <Form.Item key="group" name="group" label="Group" extra="What it is to have, and what its workstations have received last." rules={[{ required: true }]}>
            <Input autoComplete="off" autoFocus placeholder="herbarium-scanning" />
          </Form.Item>
        )}
        <Form.Item name="newest" label="How many of the newest versions" extra="Newer ones follow by themselves.">
          <InputNumber min={1} max={20} />
        </Form.Item>
      </Form>
    </Modal>
  );
}
