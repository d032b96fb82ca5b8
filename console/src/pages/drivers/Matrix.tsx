import { Table, Tag, Tooltip, Typography } from "antd";
import type { Cover, Coverage, DeviceCover, ModelCover } from "../../api/client";
import { CoverButton } from "../../parts/CoverButton";
import { classes, vital } from "./classes";

const looks: Record<string, { color: string; mark: string }> = {
  covered: { color: "green", mark: "driven" },
  "will be installed": { color: "cyan", mark: "installed" },
  uncovered: { color: "volcano", mark: "no driver" },
  "too late": { color: "volcano", mark: "too late" },
  unknown: { color: "default", mark: "unknown" },
  "no driver": { color: "default", mark: "none known" },
};

/** Which comes out when several devices of a class are looked at together: the worst. */
const order = ["uncovered", "too late", "unknown", "no driver", "will be installed", "covered"];

/** One row a model, one column a class; a row opens to its devices. */
export function Matrix({ coverage }: { coverage: Coverage }) {
  const shown = classes.filter((c) => coverage.by_model.some((m) => m.devices.some((d) => d.class === c)));
  return (
    <Table<ModelCover>
      size="small"
      rowKey="model"
      dataSource={coverage.by_model}
      pagination={coverage.by_model.length > 25 ? { pageSize: 25, showSizeChanger: false } : false}
      locale={{ emptyText: "No workstation has shown its devices yet: they come with the inventory of its first start into the boot environment." }}
      expandable={{ expandedRowRender: (m) => <Devices model={m} />, defaultExpandedRowKeys: coverage.by_model.filter(lacks).map((m) => m.model) }}
      columns={[
        {
          title: "Model",
          render: (_, m) => (
            <>
              <b>{m.model}</b>
              <div>{m.workstations.length === 1 ? m.workstations[0] : <Tooltip title={m.workstations.join(" ")}>{`${m.workstations.length} workstations`}</Tooltip>}</div>
            </>
          ),
        },
        ...shown.map((c) => ({ title: c, render: (_: unknown, m: ModelCover) => <Cell devices={m.devices.filter((d) => d.class === c)} /> })),
        {
          title: "",
          align: "right" as const,
          render: (_, m) =>
            m.devices.some((d) => vital.includes(d.class) && d.in_environment.state === "uncovered" && d.in_environment.package) && <CoverButton cover={m.model} text="Put into the boot environment" />,
        },
      ]}
    />
  );
}

const lacks = (m: ModelCover) => m.lacking_environment.length + m.lacking_delivered.length > 0;

function Cell({ devices }: { devices: DeviceCover[] }) {
  if (devices.length === 0) return null;
  const worst = (pick: (d: DeviceCover) => Cover) => order.find((s) => devices.some((d) => pick(d).state === s)) ?? "unknown";
  return (
    <>
      <Mark where="boot" state={worst((d) => d.in_environment)} />
      <Mark where="delivered" state={worst((d) => d.in_system)} />
    </>
  );
}

function Mark({ where, state }: { where: string; state: string }) {
  return (
    <div style={{ whiteSpace: "nowrap" }}>
      <Typography.Text type="secondary" style={{ display: "inline-block", width: 72 }}>
        {where}
      </Typography.Text>
      <Tag color={looks[state].color}>{looks[state].mark}</Tag>
    </div>
  );
}

function Devices({ model }: { model: ModelCover }) {
  const verdict = (c: Cover) => (
    <>
      <Tag color={looks[c.state].color} style={{ marginInlineEnd: 8 }}>{looks[c.state].mark}</Tag>
      {c.by || c.why}
    </>
  );
  return (
    <Table<DeviceCover>
      size="small"
      rowKey="id"
      dataSource={model.devices}
      pagination={model.devices.length > 12 ? { pageSize: 12, showSizeChanger: false } : false}
      columns={[
        { title: "Class", dataIndex: "class", width: 90 },
        { title: "Device", width: 200, render: (_, d) => <Tooltip title={d.id}>{d.name ? `${d.name} (${d.label})` : d.label}</Tooltip> },
        { title: "Boot environment", render: (_, d) => verdict(d.in_environment) },
        { title: "Delivered system", render: (_, d) => verdict(d.in_system) },
      ]}
    />
  );
}
