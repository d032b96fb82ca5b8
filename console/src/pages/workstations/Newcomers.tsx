import { Button, Card, Flex, Form, Input, Tag } from "antd";
import { useState } from "react";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { size, when } from "../../format";
import { Address } from "../../parts/Address";
import { GroupSelect } from "../../parts/GroupSelect";
import { explained } from "../../parts/Explain";
import { ListTable } from "../../parts/ListTable";
import { Failure } from "../../parts/Shown";
import { Disks } from "./Disks";
import { NameDialog } from "../../parts/acts/NameDialog";

/** Machines that were seen and nobody has admitted; each can be admitted in its row. */
export function Newcomers() {
  const [chosen, setChosen] = useState<Workstation[]>([]);
  const [naming, setNaming] = useState(false);
  const list = useList<Workstation>(["newcomers"], (query, form) => ask(client.GET("/workstations", { params: { query: { ...query, state: ["newcomer", "visiting"] } }, ...form })), { within: "new-" });
  if (list.isError) return <Failure error={list.error} />;
  if (list.total === 0) return null;
  return (
    <Card
      title={explained(`Newcomers (${list.total})`, { name: "newcomer", kind: "word" })}
      extra={chosen.length > 0 && <Button onClick={() => setNaming(true)}>{`Name ${chosen.length} by a pattern…`}</Button>}
      styles={{ body: { padding: 0 } }} className="newcomers"
    >
      <ListTable<Workstation>
        name="newcomers"
        list={list}
        rowKey="id"
        rowSelection={{ selectedRowKeys: chosen.map((w) => w.id), onChange: (_, rows) => setChosen(rows) }}
        columns={[
          { title: "Hardware address", render: (_, w) => (
              <>
                {w.hardware_addresses.map((a) => (
                  <Address key={a} text={a} />
                ))}
                {w.state === "visiting" && <Tag color="cyan">{w.job ? `at a bench, job ${w.job}` : "at a bench"}</Tag>}
              </>
            ) },
          { title: "Model", render: (_, w) => `${w.maker} ${w.model}` },
          { title: "Serial", dataIndex: "serial" },
          { title: "Memory", render: (_, w) => size(w.memory) },
          { title: "Disks", render: (_, w) => <Disks workstation={w} /> },
          { title: "Seen since", render: (_, w) => when(w.first_seen) },
          { title: "Admit", render: (_, w) => <Admit workstation={w} /> },
        ]}
      />
      {naming && (
        <NameDialog
          chosen={chosen}
          close={() => {
            setNaming(false);
            setChosen([]);
          }}
        />
      )}
    </Card>
  );
}

function Admit({ workstation }: { workstation: Workstation }) {
  const admit = useChange(
    (body: { name: string; groups?: string[] }) =>
      ask(client.POST("/workstations/{workstation}/admit", { params: { path: { workstation: workstation.hardware_addresses[0] } }, body })),
    ["newcomers", "workstations", "groups"],
    (w) => `${w.name} is in the roster.`,
  );
  return (
    <Form layout="inline" onFinish={(v) => admit.mutate(v)}>
      <Flex gap={8}>
        <Form.Item name="name" noStyle rules={[{ required: true }]}>
          <Input placeholder="Name" aria-label={`Name for ${workstation.hardware_addresses[0]}`} style={{ width: 130 }} />
        </Form.Item>
        <Form.Item name="groups" noStyle>
          <GroupSelect mode="multiple" placeholder="Groups" style={{ minWidth: 160 }} />
        </Form.Item>
        <Button type="primary" htmlType="submit" loading={admit.isPending}>
          Admit
        </Button>
      </Flex>
    </Form>
  );
}
