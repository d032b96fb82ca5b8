import { Badge, Card, Flex, type TableColumnType, Tag, Tooltip, Typography } from "antd";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import { ask, client, type Workstation } from "../../api/client";
import { useWhole } from "../../api/useList";
import { when, whole } from "../../format";
import { Acts } from "../../parts/acts/Acts";
import { Address } from "../../parts/Address";
import { explained } from "../../parts/Explain";
import { ListTable } from "../../parts/ListTable";
import { useWindowHeight } from "../../parts/useWindowHeight";
import { Disks } from "./Disks";
import { Inventory } from "./Inventory";

/** What was typed: a text to look for, or a condition behind an equals sign. */
const sought = (text: string) => (text.startsWith("=") ? { where: text.slice(1) } : { search: text || undefined });

interface Props {
  group?: string;
  search: string;
  /** What narrows the list. */
  extra: React.ReactNode;
}

const columns: TableColumnType<Workstation>[] = [
  { title: "Name", key: "name", dataIndex: "name", sorter: true, width: 138, render: (name: string) => (
      <Link to={`/workstations/${name}`}>
        <b>{name}</b>
      </Link>
    ) },
  { title: "Hardware address", width: 160, render: (_, w) => <Address text={w.hardware_addresses[0]} /> },
  { title: "Model", key: "model", sorter: true, width: 150, render: (_, w) => `${w.maker} ${w.model}` },
  { title: "Serial", key: "serial", dataIndex: "serial", sorter: true, width: 100 },
  { title: "Disks", width: 80, render: (_, w) => <Disks workstation={w} /> },
  { title: "Groups", width: 150, render: (_, w) => w.groups.map((g) => <Tag key={g}>{g}</Tag>) },
  { title: explained("Image", { name: "unfinished" }), width: 140, render: (_, w) => <OnDisk workstation={w} /> },
  { title: "Doing", width: 160, render: (_, w) => <Doing workstation={w} /> },
  { title: "", align: "right", width: 80, render: (_, w) => <Acts chosen={[w]} /> },
];

/** Columns as wide as what is in them. */
const flowing = columns.map((c) => ({ ...c, width: undefined }));

/** From so many on, the table draws those rows alone that are seen. */
const many = 100;

/** The workstations that were admitted, and those that are expected; what is done to those that are chosen. */
export function Roster({ group, search, extra }: Props) {
  const [ids, setIds] = useState<React.Key[]>([]);
  const height = useWindowHeight() - 340; // what stands above and below
  const list = useWhole<Workstation>(["workstations", group, search], (query, form) =>
    ask(client.GET("/workstations", { params: { query: { sort: "name", ...query, ...sought(search), group, state: ["expected", "admitted"] } }, ...form })),
  );
  const chosen = useMemo(() => {
    const wanted = new Set(ids);
    return list.items.filter((w) => wanted.has(w.id));
  }, [ids, list.items]);
  const long = list.total > many;
  const shown = long ? { virtual: true, scroll: { x: 1180, y: Math.max(300, height) } } : {};
  return (
    <Card
      title={
        <Flex gap={12} align="center">
          Roster
          {chosen.length > 0 && (
            <>
              <Typography.Text type="secondary">{`${whole(chosen.length)} chosen`}</Typography.Text>
              <Acts chosen={chosen} />
            </>
          )}
        </Flex>
      }
      extra={<Flex gap={8}>{extra}</Flex>}
      styles={{ body: { padding: 0 } }}
    >
      <ListTable<Workstation>
        {...shown}
        name="workstations"
        list={list}
        rowKey="id"
        empty={search || group ? "Nobody in the roster is like that." : "Nobody is in the roster yet. Admit newcomers, or import a table."}
        rowSelection={{ selectedRowKeys: ids, onChange: setIds, columnWidth: 36, getCheckboxProps: (w) => ({ "aria-label": `Choose ${w.name}` }), getTitleCheckboxProps: () => ({ "aria-label": "Choose all" }) }}
        expandable={{ expandedRowRender: (w) => <Inventory workstation={w} />, columnWidth: 36 }}
        columns={long ? columns : flowing}
      />
    </Card>
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
