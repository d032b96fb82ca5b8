import { useQuery } from "@tanstack/react-query";
import { Table, Tag, Tooltip, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Version } from "../../api/client";
import { size, when } from "../../format";
import { Failure, Shown } from "../../parts/Shown";
import { DiskFigure } from "./DiskFigure";
import { Findings } from "./Findings";
import { VersionActions } from "./VersionActions";

/** The versions of one image; the chosen one shows what its disk holds. */
export function Versions({ image, deliver }: { image: string; deliver: (v: Version) => void }) {
  const [chosen, setChosen] = useState<number>();
  const versions = useQuery({
    queryKey: ["versions", image],
    queryFn: () => ask(client.GET("/images/{image}/versions", { params: { path: { image } } })),
  });
  const shown = chosen ?? versions.data?.items[0]?.version;
  if (versions.isError) return <Failure error={versions.error} />;
  return (
    <>
      {shown !== undefined && <Layout image={image} version={shown} />}
      <Table<Version>
        size="small"
        pagination={false}
        loading={versions.isPending}
        dataSource={versions.data?.items}
        rowKey="version"
        onRow={(v) => ({ onClick: () => setChosen(v.version), style: { cursor: "pointer" } })}
        columns={[
          { title: "Version", render: (_, v) => (v.version === shown ? <b>@{v.version}</b> : `@${v.version}`) },
          { title: "Captured", render: (_, v) => when(v.captured) },
          { title: "From", dataIndex: "workstation" },
          { title: "New slabs", align: "right", render: (_, v) => `${v.new_slabs} of ${v.slabs}` },
          { title: "Stored for it", align: "right", render: (_, v) => size(v.stored_bytes) },
          {
            title: "Digest",
            render: (_, v) => (
              <Tooltip title={v.digest}>
                <Typography.Text code>{v.digest.slice(0, 12)}</Typography.Text>
              </Tooltip>
            ),
          },
          { title: "Note", dataIndex: "note" },
          { title: "", render: (_, v) => v.state !== "in use" && <Tag>{v.state}</Tag> },
          { title: "", align: "right", render: (_, v) => <VersionActions version={v} deliver={deliver} /> },
        ]}
      />
    </>
  );
}

function Layout({ image, version }: { image: string; version: number }) {
  const one = useQuery({
    queryKey: ["version", image, version],
    queryFn: () => ask(client.GET("/versions/{version}", { params: { path: { version: `${image}@${version}` } } })),
  });
  return (
    <Shown query={one}>
      {(v) => (
        <>
          <DiskFigure version={v} />
          <Findings version={v} />
        </>
      )}
    </Shown>
  );
}
