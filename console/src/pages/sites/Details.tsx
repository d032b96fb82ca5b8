import { useQuery } from "@tanstack/react-query";
import { Button, Descriptions, Flex, Popconfirm, Progress, Table, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Outpost, type Placement } from "../../api/client";
import { useChange } from "../../api/useChange";
import { percent, rate, size, when } from "../../format";
import { Shown } from "../../parts/Shown";
import { leaf } from "../../theme";
import { LineDialog } from "./LineDialog";
import { PlaceDialog } from "./PlaceDialog";

/** One outpost: what it answers, how its line may be used, and what it holds ahead of time. */
export function Details({ name }: { name: string }) {
  const query = useQuery({
    queryKey: ["outposts", name],
    queryFn: () => ask(client.GET("/outposts/{outpost}", { params: { path: { outpost: name } } })),
    refetchInterval: 5_000, // no event tells how much has come
  });
  return <Shown query={query}>{(o) => <Whole outpost={o} />}</Shown>;
}

function Whole({ outpost: o }: { outpost: Outpost }) {
  const [open, setOpen] = useState<"line" | "place">();
  return (
    <Flex vertical gap={16}>
      <Descriptions
        size="small"
        column={2}
        items={[
          ...o.links.map((l) => ({ key: l.interface, label: `Network boot on ${l.interface}`, children: `${l.mode}, ${l.address}: ${l.state}` })),
          { key: "streams", label: "Streams come from", children: o.streams_from || "not known yet" },
          { key: "entries", label: "Files of boot entries", children: o.entry_files },
          { key: "slabs", label: "Slabs", children: `${o.slabs_held}${o.slabs_are_sealed ? ", sealed" : o.sealed_slabs ? ", to be sealed" : ""}` },
          { key: "served", label: "Slabs given to single machines", children: `${size(o.bytes_served)} since it started` },
          { key: "joined", label: "Joined", children: o.joined ? when(o.joined) : "not yet" },
          { key: "until", label: "Certificate until", children: o.certificate_until ? when(o.certificate_until) : "" },
          { key: "version", label: "Version", children: o.outpost_version },
          { key: "sign-in", label: "Signing in while its line is cut", children: o.sign_in_hours ? `${o.sign_in_hours} h after the last time` : "nobody" },
          {
            key: "line",
            label: "Its line",
            children: (
              <Flex gap={12} align="center">
                {`${o.line_rate ? rate(o.line_rate) : "no bound"}; ahead of time ${o.ahead_hours ? `from ${o.ahead_hours.replace("-", " to ")} there` : "at any hour"}`}
                <Button size="small" onClick={() => setOpen("line")}>
                  Change…
                </Button>
              </Flex>
            ),
          },
        ]}
      />
      <Placements outpost={o} add={() => setOpen("place")} />
      {open === "line" && <LineDialog outpost={o} close={() => setOpen(undefined)} />}
      {open === "place" && <PlaceDialog outpost={o} close={() => setOpen(undefined)} />}
    </Flex>
  );
}

function Placements({ outpost: o, add }: { outpost: Outpost; add: () => void }) {
  const remove = useChange(
    (p: Placement) => ask(client.DELETE("/outposts/{outpost}/placements/{placement}", { params: { path: { outpost: o.outpost, placement: p.placement } } })),
    ["outposts"],
  );
  return (
    <div>
      <Flex justify="space-between" align="center" style={{ marginBottom: 8 }}>
        <Typography.Text strong>Held ahead of time</Typography.Text>
        <Button size="small" onClick={add}>
          Place an image…
        </Button>
      </Flex>
      <Table<Placement>
        size="small"
        rowKey="placement"
        pagination={false}
        dataSource={o.placements ?? []}
        locale={{ emptyText: "Nothing: slabs come when the first machine needs them, and stay." }}
        columns={[
          { title: "What", render: (_, p) => inWords(p) },
          {
            title: "Now",
            width: "50%",
            render: (_, p) =>
              p.placed_versions.map((v) => (
                <Flex key={`${v.image}@${v.version}`} gap={12} align="center">
                  <span style={{ minWidth: 140 }}>{`${v.image}@${v.version}`}</span>
                  <Progress aria-label="How much of it is there" size="small" percent={percent(v.slabs_held, v.slabs)} strokeColor={leaf} />
                </Flex>
              )),
          },
          {
            title: "",
            align: "right",
            render: (_, p) => (
              <Popconfirm title="Hold it ahead of time no more? What is there stays until the room is needed." okText="End it" onConfirm={() => remove.mutate(p)}>
                <Button size="small">End</Button>
              </Popconfirm>
            ),
          },
        ]}
      />
    </div>
  );
}

function inWords(p: Placement) {
  const what = p.group ? `every image of ${p.group}` : p.image;
  if (p.version) return `${what}@${p.version}`;
  return p.newest === 1 ? `the newest of ${what}` : `the newest ${p.newest} of ${what}`;
}
