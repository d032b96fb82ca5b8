import { Badge, Button, Flex, Tag, Tooltip } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { when } from "../../format";
import { Address } from "../../parts/Address";
import { explained } from "../../parts/Explain";
import { ListTable } from "../../parts/ListTable";
import { CaptureDialog } from "./CaptureDialog";
import { Disks } from "./Disks";
import { Inventory } from "./Inventory";
import { MoreButton } from "./MoreButton";
import { RenameDialog } from "./RenameDialog";

/** What was typed: a text to look for, or a condition behind an equals sign. */
const sought = (text: string) => (text.startsWith("=") ? { where: text.slice(1) } : { search: text || undefined });

/** The workstations that were admitted, and those that are expected. */
export function Roster({ group, search }: { group?: string; search: string }) {
  const [capturing, setCapturing] = useState<Workstation>();
  const [renaming, setRenaming] = useState<Workstation>();
  const list = useList<Workstation>(["workstations", "roster", group, search], async (query) =>
    ask(client.GET("/workstations", { params: { query: { sort: "name", ...query, ...sought(search), group, state: ["expected", "admitted"] } } })),
  );
  const retire = useChange(
    (w: Workstation) => ask(client.POST("/workstations/{workstation}/retire", { params: { path: { workstation: w.name } } })),
    ["workstations", "groups"],
    (w) => `${w.name} is retired; its receipts stay.`,
  );
  return (
    <>
      <ListTable<Workstation>
        list={list}
        rowKey="id"
        expandable={{ expandedRowRender: (w) => <Inventory workstation={w} /> }}
        columns={[
          { title: "Name", key: "name", dataIndex: "name", sorter: true, render: (name: string) => (
              <Link to={`/workstations/${name}`}>
                <b>{name}</b>
              </Link>
            ) },
          { title: "Hardware address", render: (_, w) => <Address text={w.hardware_addresses[0]} /> },
          { title: "Model", key: "model", sorter: true, render: (_, w) => `${w.maker} ${w.model}` },
          { title: "Serial", key: "serial", dataIndex: "serial", sorter: true },
          { title: "Disks", render: (_, w) => <Disks workstation={w} /> },
          { title: "Groups", render: (_, w) => w.groups.map((g) => <Tag key={g}>{g}</Tag>) },
          { title: explained("Image", { name: "unfinished" }), render: (_, w) => <OnDisk workstation={w} /> },
          { title: "Doing", render: (_, w) => <Doing workstation={w} /> },
          {
            title: "",
            align: "right",
            render: (_, w) => (
              <Flex gap={8} justify="end">
                <Button size="small" onClick={() => setCapturing(w)}>
                  Capture…
                </Button>
                <Button size="small" onClick={() => setRenaming(w)}>
                  Rename…
                </Button>
                <MoreButton workstation={w} retire={() => retire.mutate(w)} />
              </Flex>
            ),
          },
        ]}
      />
      {renaming && <RenameDialog workstation={renaming} close={() => setRenaming(undefined)} />}
      {capturing && <CaptureDialog workstation={capturing} close={() => setCapturing(undefined)} />}
    </>
  );
}

/** What is on its disk by its receipts. */
export function OnDisk({ workstation: w }: { workstation: Workstation }) {
  return (
    <>
      {w.unfinished ? (
        <Tooltip title="A copy was begun and is not whole: the disk does not start. Deliver it again.">
          <Tag color="volcano">{`${w.image}, unfinished`}</Tag>
        </Tooltip>
      ) : (
        w.image
      )}
      {w.behind && (
        <Tooltip title="Its group says what it should have. An order can bring that by itself.">
          <div>
            <Tag color="gold">{`behind ${w.wanted.join(" or ")}`}</Tag>
          </div>
        </Tooltip>
      )}
    </>
  );
}

/** What it is doing now. */
export function Doing({ workstation }: { workstation: Workstation }) {
  if (workstation.state === "expected") return <Badge status="default" text="expected" />;
  if (!workstation.last_seen) return <Badge status="default" text="never seen" />;
  if (!workstation.online && workstation.helper?.running) return <Badge status="success" text={workstation.helper.verb ? "its system is on, and was told to end" : "its system is on"} />;
  if (!workstation.online) return <Badge status="default" text={`away since ${when(workstation.last_seen)}`} />;
  return <Badge status="success" text={workstation.activity || "waiting"} />;
}
