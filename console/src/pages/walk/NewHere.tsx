import { useQuery } from "@tanstack/react-query";
import { Button, Card, Flex, Form, Input, Typography } from "antd";
import { ask, client, type Model, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { modelOf } from "../../parts/model";
import { ochre } from "../../theme";
import { nextName } from "./nextName";

/** How many newcomers are shown at once: who walks stands before one of them. */
const most = 10;

/** Machines that nobody has admitted yet, the last to appear first: one name, one press. */
export function NewHere({ room, names, models }: { room: string; names: string[]; models: Model[] }) {
  const query = useQuery({
    queryKey: ["newcomers", "walk"],
    queryFn: () => ask(client.GET("/workstations", { params: { query: { state: ["newcomer"], sort: "-last_seen", limit: most } } })),
  });
  const all = query.data?.items ?? [];
  if (all.length === 0) return null;
  const free = nextName(names);
  const more = (query.data?.total ?? 0) - all.length;
  return (
    <Card size="small" title={`New here${more > 0 ? `, and ${more} more` : ""}`} style={{ borderLeft: `5px solid ${ochre}` }}>
      <Flex vertical gap={12}>
        {all.map((w) => (
          <Newcomer key={`${w.id} ${free}`} workstation={w} room={room} free={free} model={models.find((m) => m.model === modelOf(w))} />
        ))}
      </Flex>
    </Card>
  );
}

function Newcomer({ workstation: w, room, free, model }: { workstation: Workstation; room: string; free: string; model?: Model }) {
  const [form] = Form.useForm<{ name: string }>();
  const admit = useChange(
    ({ name }: { name: string }) => ask(client.POST("/workstations/{workstation}/admit", { params: { path: { workstation: w.hardware_addresses[0]! } }, body: { name, groups: [room] } })),
    ["newcomers", "workstations", "groups"],
    (one) => `${one.name} is in ${room}.`,
  );
  return (
    <Form form={form} initialValues={{ name: free }} onFinish={(v) => admit.mutate(v)}>
      <Flex gap={12} align="center" wrap justify="space-between">
        <div>
          <b>{modelOf(w) || "A machine"}</b>
          <div>
            <Typography.Text code>{w.hardware_addresses[0]}</Typography.Text> {w.serial}
          </div>
          {model?.note && <div>{model.note}</div>}
        </div>
        <Flex gap={8}>
          <Form.Item name="name" noStyle rules={[{ required: true }]}>
            <Input size="large" aria-label={`Name for ${w.hardware_addresses[0]}`} style={{ width: 150 }} />
          </Form.Item>
          <Button size="large" type="primary" htmlType="submit" loading={admit.isPending} style={{ height: 48 }}>
            Admit
          </Button>
        </Flex>
      </Flex>
    </Form>
  );
}
