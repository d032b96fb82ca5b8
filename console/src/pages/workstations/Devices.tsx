import { useQuery } from "@tanstack/react-query";
import { Table, Tooltip, Typography } from "antd";
import { ask, client, type DeviceCover, type Workstation } from "../../api/client";
import { Outcome } from "../../parts/Outcome";
import { Shown } from "../../parts/Shown";

/** What is in a workstation that wants a driver, and whether it has one: in the boot environment, and in the system that is on its disk. */
export function Devices({ workstation: w }: { workstation: Workstation }) {
  const query = useQuery({ queryKey: ["coverage", "of", w.name, w.image], queryFn: () => ask(client.GET("/coverage", { params: { query: { to: [w.name], image: w.image || undefined } } })) });
  return (
    <Shown query={query}>
      {(c) => (
        <Table<DeviceCover>
          size="small"
          rowKey="id"
          pagination={false}
          dataSource={c.by_model.flatMap((m) => m.devices)}
          locale={{ emptyText: "Which devices it has was not seen yet." }}
          columns={[
            { title: "Device", render: (_, d) => d.name || d.label },
            { title: "Class", dataIndex: "class" },
            { title: c.build ? `In build ${c.build}` : "In the boot environment", render: (_, d) => (c.build ? <Covered by={d.in_environment} /> : <Typography.Text type="secondary">none is offered</Typography.Text>) },
            ...(c.image ? [{ title: `In ${c.image}`, render: (_: unknown, d: DeviceCover) => <Covered by={d.in_system} /> }] : []),
          ]}
        />
      )}
    </Shown>
  );
}

function Covered({ by }: { by: DeviceCover["in_environment"] }) {
  return (
    <Tooltip title={by.why}>
      <span>
        <Outcome state={by.state} /> {by.label || by.by}
      </span>
    </Tooltip>
  );
}
