import { useQuery } from "@tanstack/react-query";
import { Alert, Button, Card, Flex, Input, Popconfirm, Select, Table, Tag, Tooltip } from "antd";
import { ask, client, type DriverModel, type DriverPackage } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { useParam } from "../../api/useParam";
import { size } from "../../format";
import { ListTable } from "../../parts/ListTable";
import { Shown } from "../../parts/Shown";
import { classes } from "./classes";

/** All packages, with which workstations each would serve. */
export function Library() {
  const [kind, setKind] = useParam("class");
  const list = useList<DriverPackage>(["drivers", kind], (query, form) => ask(client.GET("/drivers", { params: { query: { ...query, class: kind } }, ...form })));
  const remove = useChange((id: string) => ask(client.DELETE("/drivers/{driver}", { params: { path: { driver: id } } })), ["drivers", "coverage"]);
  return (
    <Card styles={{ body: { padding: 0 } }}>
      <Flex gap={8} style={{ padding: 12 }}>
        <Input.Search allowClear placeholder="Name, maker, device, kernel" defaultValue={list.searched} onSearch={list.search} style={{ width: 300 }} />
        <Select allowClear aria-label="Class" placeholder="All classes" value={kind} onChange={setKind} options={classes.map((value) => ({ value, label: value }))} style={{ width: 150 }} />
      </Flex>
      <ListTable<DriverPackage>
        name="drivers"
        list={list}
        rowKey="id"
        empty="No driver package yet. Add a folder with `jugate driver add`, or an archive here."
        expandable={{ expandedRowRender: (p) => <Contents id={p.id} /> }}
        columns={[
          { title: "Package", render: (_, p) => <b>{p.name}</b> },
          { title: "Version", dataIndex: "driver_version" },
          { title: "Date", dataIndex: "date" },
          { title: "Class", dataIndex: "class" },
          { title: "Provider", dataIndex: "provider" },
          { title: "For", render: (_, p) => `${p.kind === "inf" ? "windows" : "linux"} ${p.architectures.join(" ")}` },
          {
            title: "Signed by",
            render: (_, p) => (p.kind === "modules" ? "" : p.signer || <Tooltip title={p.remarks.join("; ")}><Tag color="volcano">not signed</Tag></Tooltip>),
          },
          { title: "Drives", dataIndex: "drives", align: "right" },
          { title: "Serves best", render: (_, p) => <Tooltip title={p.serves.join(" ")}>{p.serves.length > 0 ? `${p.serves.length} workstations` : ""}</Tooltip> },
          { title: "Size", align: "right", render: (_, p) => size(p.bytes) },
          {
            title: "",
            align: "right",
            render: (_, p) => (
              <Popconfirm title={`Take ${p.label} out of the library?`} description="Builds and workstations that have it keep it." onConfirm={() => remove.mutate(p.id)}>
                <Button size="small">Remove</Button>
              </Popconfirm>
            ),
          },
        ]}
      />
    </Card>
  );
}

function Contents({ id }: { id: string }) {
  const query = useQuery({ queryKey: ["drivers", "one", id], queryFn: () => ask(client.GET("/drivers/{driver}", { params: { path: { driver: id } } })) });
  return <Shown query={query}>{(p) => <Driven driver={p} />}</Shown>;
}

function Driven({ driver: { remarks, contents, files, origin } }: { driver: DriverPackage }) {
  return (
    <Flex vertical gap={8}>
      {remarks.map((r) => (
        <Alert key={r} type="warning" showIcon title={r} />
      ))}
      <Table<DriverModel>
        size="small"
        rowKey={(m) => m.name + m.ids.join()}
        dataSource={contents ?? []}
        pagination={(contents?.length ?? 0) > 10 ? { pageSize: 10, showSizeChanger: false } : false}
        columns={[
          { title: "Drives", dataIndex: "name" },
          { title: "Of", dataIndex: "maker" },
          { title: "For", dataIndex: "for" },
          { title: "Identifiers", render: (_, m) => <Tooltip title={m.ids.join("\n")}>{m.ids.slice(0, 2).join(", ") + (m.ids.length > 2 ? ` and ${m.ids.length - 2} more` : "")}</Tooltip> },
          { title: "Needs", render: (_, m) => m.needs?.join(" ") },
        ]}
      />
      <span>{`${files?.length ?? 0} files, from ${origin}`}</span>
    </Flex>
  );
}
