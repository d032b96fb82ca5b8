import { useQuery } from "@tanstack/react-query";
import { Alert, Checkbox, Form, Input, Modal, Progress } from "antd";
import { useState } from "react";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { percent, size } from "../../format";
import { Shown } from "../Shown";

interface Order {
  image: string;
  note?: string;
  despite?: string;
  past_bad_sectors?: boolean;
}

/** Orders a capture and shows how it goes. */
export function CaptureDialog({ chosen: [workstation], close }: { chosen: Workstation[]; close: () => void }) {
  const [form] = Form.useForm<Order>();
  const [errand, setErrand] = useState<number>();
  const order = useChange(
    (v: Order) => ask(client.POST("/captures", { body: { ...v, workstation: workstation.name, disk: "only", when_done: "stay" } })),
    [],
  );
  const start = () => form.validateFields().then((v) => order.mutate(v, { onSuccess: (e) => setErrand(e.id) }));
  return (
    <Modal
      open
      title={`Capture ${workstation.name}`}
      onCancel={close}
      okText={errand ? "Close" : "Capture"}
      cancelButtonProps={{ style: errand ? { display: "none" } : undefined }}
      confirmLoading={order.isPending}
      onOk={errand ? close : () => void start()}
    >
      {errand ? (
        <CaptureProgress errand={errand} />
      ) : (
        <Form form={form} layout="vertical">
          <Form.Item name="image" label="As the next version of" rules={[{ required: true, message: "Which image?" }]} extra="A new name begins a new image.">
            <Input placeholder="garden-desk" />
          </Form.Item>
          <Form.Item name="note" label="Note">
            <Input placeholder="What is new in this version" />
          </Form.Item>
          <Form.Item name="despite" label="Reason to go on in spite of findings" extra="Without one, a disk that is not fit is not captured. The version keeps it for ever.">
            <Input />
          </Form.Item>
          <Form.Item name="past_bad_sectors" valuePropName="checked">
            <Checkbox>Go on where the disk cannot be read, and name the places</Checkbox>
          </Form.Item>
        </Form>
      )}
    </Modal>
  );
}

function CaptureProgress({ errand }: { errand: number }) {
  const query = useQuery({
    queryKey: ["errand", errand],
    queryFn: () => ask(client.GET("/errands/{errand}", { params: { path: { errand: errand } } })),
    refetchInterval: (q) => (q.state.data?.ended ? false : 1000),
  });
  return (
    <Shown query={query}>
      {(e) => {
        if (e.state === "done") return <Alert type="success" showIcon title={`Captured as ${e.image}@${e.version}`} />;
        if (e.error) return <Alert type="error" showIcon title={`The capture ${e.state}`} description={e.error} />;
        return (
          <>
            <p>{e.state === "waiting" ? "Waiting for the workstation to ask for its errand." : `${size(e.done)} of ${size(e.total)} read`}</p>
            <Progress aria-label="How far the capture is" percent={percent(e.done, e.total)} status="active" />
          </>
        );
      }}
    </Shown>
  );
}
