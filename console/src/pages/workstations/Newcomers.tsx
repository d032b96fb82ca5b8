import { Button, Card, Flex, Form, Input, Select, Table, Tooltip, Typography } from "antd";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { size, when } from "../../format";
import { Address } from "../../parts/Address";
import { useGroups } from "./useGroups";

/** Machines that were seen and nobody has admitted; each can be admitted in its row. */
export function Newcomers() {
  const list = useList<Workstation>(["workstations", "newcomers"], (query) =>
    ask(client.GET("/workstations", { params: { query: { ...query, state: "newcomer" } } })),
  );
  if (list.total === 0) return null;
  return (
    <Card title={`Newcomers (${list.total})`} styles={{ body: { padding: 0 } }} className="newcomers">
      <Table<Workstation>
        {...list.table}
        rowKey="id"
        columns={[
          { title: "Hardware address", render: (_, w) => w.hardware_addresses.map((a) => <Address key={a} of={a} />) },
          { title: "Model", render: (_, w) => `${w.maker} ${w.model}` },
          { title: "Serial", dataIndex: "serial" },
          { title: "Memory", render: (_, w) => size(w.inventory.memory) },
          { title: "Disks", render: (_, w) => <Disks of={w} /> },
          { title: "Seen since", render: (_, w) => when(w.first_seen) },
          { title: "Admit", render: (_, w) => <Admit workstation={w} /> },
        ]}
      />
    </Card>
  );
}

export function Disks({ of }: { of: Workstation }) {
  if (of.inventory.disks.length === 0) return <Typography.Text type="danger">none</Typography.Text>;
  return of.inventory.disks.map((d) => (
    <Tooltip key={d.serial} title={`${d.model}, serial ${d.serial}, ${d.size.toLocaleString("en")} bytes`}>
      <div>{size(d.size)}</div>
    </Tooltip>
  ));
}

function Admit({ workstation }: { workstation: Workstation }) {
  const groups = useGroups();
  const admit = useChange(
    (body: { name: string; groups?: string[] }) =>
      ask(client.POST("/workstations/{ref}/admit", { params: { path: { ref: workstation.hardware_addresses[0] } }, body })),
    ["workstations", "groups"],
    (w) => `${w.name} is in the roster.`,
  );
  return (
    <Form layout="inline" onFinish={(v) => admit.mutate(v)}>
      <Flex gap={8}>
        <Form.Item name="name" noStyle rules={[{ required: true }]}>
          <Input placeholder="Name" aria-label={`Name for ${workstation.hardware_addresses[0]}`} style={{ width: 130 }} />
        </Form.Item>
        <Form.Item name="groups" noStyle>
          <Select mode="multiple" placeholder="Groups" options={groups} style={{ minWidth: 160 }} />
        </Form.Item>
        <Button type="primary" htmlType="submit" loading={admit.isPending}>
          Admit
        </Button>
      </Flex>
    </Form>
  );
}
