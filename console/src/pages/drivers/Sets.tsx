import { useQuery } from "@tanstack/react-query";
import { Button, Card, Flex, Popconfirm, Table, Tag } from "antd";
import { useState } from "react";
import { ask, client, type DriverChoice, type DriverSet } from "../../api/client";
import { useChange } from "../../api/useChange";
import { Failure } from "../../parts/Shown";
import { SetDialog } from "./SetDialog";

/** Named choices of packages, and what each would bring. */
export function Sets() {
  const [editing, setEditing] = useState<DriverSet | "new">();
  const sets = useQuery({ queryKey: ["driver-sets"], queryFn: () => ask(client.GET("/driver-sets", {})) });
  const remove = useChange((name: string) => ask(client.DELETE("/driver-sets/{set}", { params: { path: { set: name } } })), ["driver-sets"]);
  if (sets.isError) return <Failure error={sets.error} />;
  return (
    <Card styles={{ body: { padding: 0 } }}>
      <Flex style={{ padding: 12 }}>
        <Button onClick={() => setEditing("new")}>New set…</Button>
      </Flex>
      <Table<DriverSet>
        size="small"
        rowKey="name"
        loading={sets.isPending}
        dataSource={sets.data?.items}
        pagination={false}
        locale={{ emptyText: "No set yet. A set names packages by rule: for a layer of the boot environment, or for what a delivery installs." }}
        expandable={{ expandedRowRender: (s) => <Brings set={s.name} /> }}
        columns={[
          { title: "Set", render: (_, s) => <b>{s.name}</b> },
          { title: "For", render: (_, s) => `${s.system} ${s.arch}` },
          { title: "Rules", render: (_, s) => s.rules.map((r, i) => <div key={i}>{ruleText(r)}</div>) },
          {
            title: "",
            render: (_, s) => (
              <>
                {s.fallback && <Tag>fallback</Tag>}
                {s.on_demand && <Tag>on demand</Tag>}
              </>
            ),
          },
          {
            title: "",
            align: "right",
            render: (_, s) => (
              <Flex gap={8} justify="end">
                <Button size="small" onClick={() => setEditing(s)}>
                  Change…
                </Button>
                <Popconfirm title={`Forget the set ${s.name}?`} description="Its packages stay." onConfirm={() => remove.mutate(s.name)}>
                  <Button size="small">Remove</Button>
                </Popconfirm>
              </Flex>
            ),
          },
        ]}
      />
      {editing && <SetDialog set={editing === "new" ? undefined : editing} close={() => setEditing(undefined)} />}
    </Card>
  );
}

const ruleText = (r: DriverSet["rules"][number]) =>
  [r.class && `class ${r.class}`, r.provider && `provider ${r.provider}`, r.package && `package ${r.package}`, r.model && `what drives ${r.model}`].filter(Boolean).join(", ");

function Brings({ set }: { set: string }) {
  const choice = useQuery({ queryKey: ["driver-sets", set], queryFn: () => ask(client.GET("/driver-sets/{set}/choice", { params: { path: { set: set } } })) });
  return (
    <Table<DriverChoice>
      size="small"
      rowKey="package"
      loading={choice.isPending}
      dataSource={choice.data ?? []}
      pagination={(choice.data?.length ?? 0) > 10 ? { pageSize: 10, showSizeChanger: false } : false}
      locale={{ emptyText: "It brings nothing: no package of the library fits its rules" }}
      columns={[
        { title: "Brings", dataIndex: "label" },
        { title: "Modules", render: (_, c) => c.modules?.slice(0, 6).join(" ") + ((c.modules?.length ?? 0) > 6 ? ` and ${(c.modules?.length ?? 0) - 6} more` : "") },
      ]}
    />
  );
}
