import { useQuery } from "@tanstack/react-query";
import { Form, InputNumber, Modal, Radio, Select } from "antd";
import { useNavigate } from "react-router";
import { ask, client, type Version } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useGroups } from "../workstations/useGroups";

interface Order {
  to: string[];
  start: "all" | "first" | "ready";
  ready?: number;
  grow: string;
}

/** Orders a delivery of one version and goes to watch it. */
export function DeliverDialog({ version, close }: { version: Version; close: () => void }) {
  const [form] = Form.useForm<Order>();
  const rule = Form.useWatch("start", form);
  const navigate = useNavigate();
  const groups = useGroups();
  const workstations = useQuery({
    queryKey: ["workstations", "names"],
    queryFn: () => ask(client.GET("/workstations", { params: { query: { state: "admitted", sort: "name", limit: 1000 } } })),
  });
  const whole = useQuery({
    queryKey: ["version", version.image, version.version],
    queryFn: () => ask(client.GET("/versions/{ref}", { params: { path: { ref: `${version.image}@${version.version}` } } })),
  });
  const order = useChange(
    (v: Order) =>
      ask(
        client.POST("/deliveries", {
          body: { image: `${version.image}@${version.version}`, to: v.to, start: v.start === "ready" ? `ready:${v.ready}` : v.start, grow: v.grow, disk: "only" },
        }),
      ),
    ["deliveries"],
  );
  const submit = () =>
    form.validateFields().then((v) =>
      order.mutate(v, {
        onSuccess: (d) => {
          close();
          void navigate(`/deliveries/${d.id}`);
        },
      }),
    );
  return (
    <Modal open title={`Deliver ${version.image}@${version.version}`} onCancel={close} okText="Deliver" confirmLoading={order.isPending} onOk={() => void submit()}>
      <p>The disks of these workstations are overwritten.</p>
      <Form form={form} layout="vertical" initialValues={{ start: "all", grow: "last" }}>
        <Form.Item name="to" label="To" rules={[{ required: true, message: "Which groups or workstations?" }]}>
          <Select
            mode="multiple"
            placeholder="Groups and workstations"
            options={[
              { label: "Groups", options: groups ?? [] },
              { label: "Workstations", options: (workstations.data?.items ?? []).map((w) => ({ value: w.name, label: w.name })) },
            ]}
          />
        </Form.Item>
        <Form.Item name="start" label="The stream starts when">
          <Radio.Group
            options={[
              { value: "all", label: "all are ready" },
              { value: "first", label: "the first is ready" },
              { value: "ready", label: "so many are ready" },
            ]}
          />
        </Form.Item>
        <Form.Item name="grow" label="On larger disks">
          <Select options={growth(whole.data)} />
        </Form.Item>
        {rule === "ready" && (
          <Form.Item name="ready" label="How many" rules={[{ required: true, message: "How many?" }]}>
            <InputNumber min={1} />
          </Form.Item>
        )}
      </Form>
    </Modal>
  );
}

/** Which partition may take the room of a larger disk. */
function growth(version?: Version) {
  const partitions = (version?.areas ?? []).filter((a) => a.partition > 0);
  return [
    { value: "last", label: "the last partition grows" },
    ...partitions.map((a) => ({ value: String(a.partition), label: `partition ${a.partition}${a.name ? ` (${a.name})` : ""} grows` })),
    { value: "none", label: "none grows; the rest stays free" },
  ];
}
