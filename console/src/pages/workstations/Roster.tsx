import { Badge, Button, Descriptions, Flex, Popconfirm, Table, Tag } from "antd";
import { useState } from "react";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { size, when } from "../../format";
import { Address } from "../../parts/Address";
import { Outcome } from "../../parts/Outcome";
import { CaptureDialog } from "./CaptureDialog";
import { Disks } from "./Newcomers";

/** The workstations that were admitted, and those retired. */
export function Roster({ group, search }: { group?: string; search: string }) {
  const [capturing, setCapturing] = useState<Workstation>();
  const list = useList<Workstation>(["workstations", "roster", group, search], async (query) =>
    ask(client.GET("/workstations", { params: { query: { sort: "name", ...query, search: search || undefined, group, state: "admitted" } } })),
  );
  const retire = useChange(
    (w: Workstation) => ask(client.POST("/workstations/{ref}/retire", { params: { path: { ref: w.name } } })),
    ["workstations", "groups"],
    (w) => `${w.name} is retired; its receipts stay.`,
  );
  return (
    <>
      <Table<Workstation>
        {...list.table}
        rowKey="id"
        expandable={{ expandedRowRender: (w) => <Inventory of={w} /> }}
        columns={[
          { title: "Name", key: "name", dataIndex: "name", sorter: true, render: (name: string) => <b>{name}</b> },
          { title: "Hardware address", render: (_, w) => <Address of={w.hardware_addresses[0]} /> },
          { title: "Model", key: "model", sorter: true, render: (_, w) => `${w.maker} ${w.model}` },
          { title: "Serial", key: "serial", dataIndex: "serial", sorter: true },
          { title: "Disks", render: (_, w) => <Disks of={w} /> },
          { title: "Groups", render: (_, w) => w.groups.map((g) => <Tag key={g}>{g}</Tag>) },
          { title: "Doing", render: (_, w) => <Doing workstation={w} /> },
          {
            title: "",
            align: "right",
            render: (_, w) => (
              <Flex gap={8} justify="end">
                <Button size="small" onClick={() => setCapturing(w)}>
                  Capture…
                </Button>
                <Popconfirm title={`Put ${w.name} out of service?`} description="Its receipts stay." okText="Retire" onConfirm={() => retire.mutate(w)}>
                  <Button size="small">Retire</Button>
                </Popconfirm>
              </Flex>
            ),
          },
        ]}
      />
      {capturing && <CaptureDialog workstation={capturing} close={() => setCapturing(undefined)} />}
    </>
  );
}

function Doing({ workstation }: { workstation: Workstation }) {
  if (!workstation.online) return <Badge status="default" text={`away since ${when(workstation.last_seen)}`} />;
  return <Badge status="success" text={workstation.activity || "waiting"} />;
}

function Inventory({ of }: { of: Workstation }) {
  return (
    <Descriptions size="small" column={3}>
      <Descriptions.Item label="State">
        <Outcome is={of.state} />
      </Descriptions.Item>
      <Descriptions.Item label="Memory">{size(of.inventory.memory)}</Descriptions.Item>
      <Descriptions.Item label="Agent">{of.agent_version}</Descriptions.Item>
      <Descriptions.Item label="Disks">
        <div>
          {of.inventory.disks.map((d) => (
            <div key={d.serial}>
              {d.model}, {d.size.toLocaleString("en")} bytes, sectors of {d.sector_size}, serial {d.serial}
            </div>
          ))}
        </div>
      </Descriptions.Item>
      <Descriptions.Item label="Network cards">
        <div>
          {of.inventory.network_cards.map((c) => (
            <div key={c.hardware_address}>
              <Address of={c.hardware_address} /> {c.model}
            </div>
          ))}
        </div>
      </Descriptions.Item>
      <Descriptions.Item label="Seen">
        {when(of.first_seen)} to {when(of.last_seen)}
      </Descriptions.Item>
    </Descriptions>
  );
}
