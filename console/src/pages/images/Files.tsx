import { useQuery } from "@tanstack/react-query";
import { Breadcrumb, Button, Card, Flex, Select, Table, Typography } from "antd";
import { ask, client, type ImageFile, type Version } from "../../api/client";
import { useOneOf, useParam } from "../../api/useParam";
import { size } from "../../format";
import { Shown } from "../../parts/Shown";
import { ref } from "./ref";

/** The files of an image's versions, to look at, and to fetch one. */
export function Files({ versions }: { versions: Version[] }) {
  const there = versions.filter((v) => v.state !== "pruned");
  const names = there.map(ref);
  const [version, setVersion] = useOneOf("in", names as [string, ...string[]]);
  const query = useQuery({ queryKey: ["versions", "one", version], queryFn: () => ask(client.GET("/versions/{version}", { params: { path: { version } } })), enabled: there.length > 0 });
  if (there.length === 0) return null;
  return (
    <Card title="Files" extra={<Select size="small" aria-label="Version" value={version} onChange={setVersion} options={names.map((value) => ({ value, label: value }))} style={{ minWidth: 150 }} />} styles={{ body: { padding: 0 } }}>
      <Shown query={query}>{(v) => <Volume key={version} version={v} />}</Shown>
    </Card>
  );
}

function Volume({ version }: { version: Version }) {
  const areas = (version.areas ?? []).filter((a) => a.partition > 0);
  const largest = areas.toSorted((a, b) => b.size - a.size)[0];
  const [said, setPartition] = useParam("partition");
  const [folder = "", setFolder] = useParam("folder");
  const partition = areas.find((a) => String(a.partition) === said)?.partition ?? largest?.partition;
  const query = useQuery({
    queryKey: ["files", ref(version), partition, folder],
    queryFn: () => ask(client.GET("/versions/{version}/files", { params: { path: { version: ref(version) }, query: { partition: partition!, folder: folder || undefined } } })),
    enabled: partition !== undefined,
    retry: false,
    staleTime: Infinity, // a version never changes
  });
  if (partition === undefined) return <Typography.Text type="secondary">It has no partition.</Typography.Text>;
  const steps = folder.split("/").filter(Boolean);
  return (
    <>
      <Flex gap={12} align="center" wrap style={{ padding: 12 }}>
        <Select
          size="small"
          aria-label="Partition"
          value={partition}
          onChange={(p) => {
            setFolder(undefined);
            setPartition(String(p));
          }}
          options={areas.map((a) => ({ value: a.partition, label: `${a.partition}: ${[a.kind, a.label || a.name].filter(Boolean).join(" ")}` }))}
          style={{ minWidth: 200 }}
        />
        <Breadcrumb
          items={[
            { title: <Step name="top" onClick={() => setFolder(undefined)} /> },
            ...steps.map((name, i) => ({ title: i === steps.length - 1 ? name : <Step name={name} onClick={() => setFolder(steps.slice(0, i + 1).join("/"))} /> })),
          ]}
        />
      </Flex>
      <Shown query={query}>
        {({ items }) => (
          <Table<ImageFile>
            size="small"
            rowKey="path"
            virtual
            scroll={{ y: 320 }}
            pagination={false}
            dataSource={items}
            locale={{ emptyText: "There is nothing in it." }}
            columns={[
              { title: "Name", render: (_, f) => (f.kind === "folder" ? <Step name={`${f.name}/`} onClick={() => setFolder(f.path)} /> : f.name) },
              { title: "Size", align: "right", width: 120, render: (_, f) => (f.kind === "file" ? size(f.size) : f.kind === "folder" ? "" : f.kind) },
              { title: "", width: 100, align: "right", render: (_, f) => f.kind === "file" && <Fetch version={ref(version)} partition={partition} file={f} /> },
            ]}
          />
        )}
      </Shown>
    </>
  );
}

function Step({ name, onClick }: { name: string; onClick: () => void }) {
  return (
    <Button type="link" size="small" style={{ padding: 0 }} onClick={onClick}>
      {name}
    </Button>
  );
}

/** The browser saves what the service sends; whoever may not have it is told so there. */
function Fetch({ version, partition, file: f }: { version: string; partition: number; file: ImageFile }) {
  const at = new URLSearchParams({ partition: String(partition), path: f.path });
  return (
    <a href={`/api/v1/versions/${encodeURIComponent(version)}/file?${at}`} download={f.name} aria-label={`Fetch ${f.name}`}>
      Fetch
    </a>
  );
}
