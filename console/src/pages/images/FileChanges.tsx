import { useQuery } from "@tanstack/react-query";
import { Table, Tag, Typography } from "antd";
import { ask, client, type FileDifference } from "../../api/client";
import { size, whole } from "../../format";
import { Shown } from "../../parts/Shown";

const colours = { added: "green", changed: "gold", removed: "volcano" };

/** Which files of a partition differ between two versions. */
export function FileChanges({ earlier, later, partition }: { earlier: string; later: string; partition: number }) {
  const query = useQuery({
    queryKey: ["files", "compared", earlier, later, partition],
    queryFn: () => ask(client.GET("/versions/{version}/diff/{other_version}/files", { params: { path: { version: earlier, other_version: later }, query: { partition } } })),
    retry: false,
    staleTime: Infinity,
  });
  return (
    <Shown query={query}>
      {(c) => (
        <>
          <Table<FileDifference>
            size="small"
            rowKey="path"
            pagination={c.files.length > 20 ? { pageSize: 20, showSizeChanger: false } : false}
            dataSource={c.files}
            locale={{ emptyText: "No file differs, as far as they were read." }}
            columns={[
              { title: "File", dataIndex: "path" },
              { title: "Change", render: (_, f) => <Tag color={colours[f.change]}>{f.change}</Tag> },
              { title: "Before", align: "right", render: (_, f) => (f.change === "added" ? "" : size(f.size_before)) },
              { title: "After", align: "right", render: (_, f) => (f.change === "removed" ? "" : size(f.size_after)) },
            ]}
          />
          {c.different_count > c.files.length && <Typography.Paragraph type="secondary">{`${whole(c.different_count)} differ; these are the first.`}</Typography.Paragraph>}
          {c.unread_count > 0 && <Typography.Paragraph type="secondary">{`${whole(c.unread_count)} of one size were not held against each other: they are larger than 256 KiB, or cannot be read.`}</Typography.Paragraph>}
        </>
      )}
    </Shown>
  );
}
