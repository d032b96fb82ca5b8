import { useQuery } from "@tanstack/react-query";
import { Button, Card, Col, Descriptions, Flex, Row, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { ask, client, type Check, type Model } from "../../api/client";
import { when } from "../../format";
import { Outcome } from "../../parts/Outcome";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { Key } from "./Key";
import { ModelDialog } from "./ModelDialog";

/** How many checks are shown; the page of checks has the others. */
const most = 10;

/** All that is known of one model, on a sheet to take along. */
export function ModelSheet({ name }: { name: string }) {
  const query = useQuery({ queryKey: ["model", name], queryFn: () => ask(client.GET("/model", { params: { query: { model: name } } })) });
  return <Shown query={query}>{(m) => <Sheet model={m} />}</Shown>;
}

function Sheet({ model: m }: { model: Model }) {
  const [changing, setChanging] = useState(false);
  return (
    <>
      <PageTitle title={m.model}>
        <Flex gap={8} align="center" className="unprinted">
          <Link to="/models">Models</Link>
          <Link to={`/workstations?search=${encodeURIComponent(`=trim(maker + " " + model) == ${JSON.stringify(m.model)}`)}`}>{m.machine_count === 1 ? "1 machine" : `${m.machine_count} machines`}</Link>
          <Button onClick={() => setChanging(true)}>Change…</Button>
          <Button onClick={() => window.print()}>Print</Button>
        </Flex>
      </PageTitle>
      <Row gutter={[16, 16]}>
        <Col xs={24} lg={12}>
          <Flex vertical gap={16}>
            <Card title="At the machine">
              <Descriptions
                size="small"
                column={1}
                items={[
                  { key: "boot", label: "Boots over the network by", children: m.boot_key ? <Key text={m.boot_key} /> : "nobody has said" },
                  { key: "setup", label: "Its firmware is entered by", children: m.setup_key ? <Key text={m.setup_key} /> : "nobody has said" },
                  ...(m.needs_adapter ? [{ key: "adapter", label: "Network adapter", children: m.needs_adapter }] : []),
                  ...(m.note ? [{ key: "note", label: "Note", children: <span style={{ whiteSpace: "pre-wrap" }}>{m.note}</span> }] : []),
                ]}
              />
            </Card>
            <Card title="Firmware">
              <Descriptions
                size="small"
                column={1}
                items={[
                  { key: "version", label: "Version that it should have", children: m.wanted_firmware || "any will do" },
                  ...Object.entries(m.wanted_settings).map(([setting, value]) => ({ key: setting, label: setting, children: value })),
                  ...(m.firmware_seen ?? []).filter((v) => v.firmware_version).map((v) => ({ key: `seen ${v.firmware_version}`, label: `${v.firmware_version} is on`, children: v.machine_count === 1 ? "1 machine" : `${v.machine_count} machines` })),
                ]}
              />
              {(m.not_as_wanted ?? []).length > 0 && (
                <Table
                  size="small"
                  rowKey="workstation"
                  pagination={false}
                  dataSource={m.not_as_wanted}
                  columns={[
                    { title: "Not as it should be", render: (_, d) => <Link to={`/workstations/${d.workstation}`}>{d.workstation}</Link> },
                    { title: "What", render: (_, d) => d.differences.join("; ") },
                  ]}
                />
              )}
              {!!m.more_not_as_wanted && <Typography.Text type="secondary">and {m.more_not_as_wanted} more</Typography.Text>}
            </Card>
          </Flex>
        </Col>
        <Col xs={24} lg={12}>
          <Flex vertical gap={16}>
            <Card title="Drivers" extra={<Link to="/drivers">Drivers</Link>}>
              <Drivers model={m.model} />
            </Card>
            <Card title="Checks" extra={<Link to={`/errands?view=Checks&model=${encodeURIComponent(m.model)}`}>All checks</Link>}>
              <Checks model={m.model} />
            </Card>
          </Flex>
        </Col>
      </Row>
      {changing && <ModelDialog before={m} close={() => setChanging(false)} />}
    </>
  );
}

/** What the boot environment that is offered lacks for a model, and that it lacks nothing. */
function Drivers({ model }: { model: string }) {
  const query = useQuery({ queryKey: ["coverage", "of", model], queryFn: () => ask(client.GET("/coverage", { params: { query: { model } } })) });
  return (
    <Shown query={query}>
      {(c) => {
        const cover = c.by_model.find((m) => m.model === model);
        if (!cover) return <Typography.Text type="secondary">What is in its machines was not seen yet.</Typography.Text>;
        return (
          <Flex vertical gap={4}>
            {cover.devices.map((d) => (
              <Flex key={d.id} gap={8} wrap>
                <span>{d.name || d.label}</span>
                <Tag>{d.class}</Tag>
              </Flex>
            ))}
            {c.build === 0 && <Typography.Text type="secondary">No build of the boot environment is offered.</Typography.Text>}
            {c.build > 0 && (cover.lacking_environment.length ? cover.lacking_environment.map((l) => <Typography.Text key={l} type="danger">{l}</Typography.Text>) : <Typography.Text type="success">{`Build ${c.build} has a driver for all that it needs.`}</Typography.Text>)}
          </Flex>
        );
      }}
    </Shown>
  );
}

function Checks({ model }: { model: string }) {
  const query = useQuery({ queryKey: ["checks", "of model", model], queryFn: () => ask(client.GET("/checks", { params: { query: { model, limit: most } } })) });
  return (
    <Shown query={query}>
      {({ items }) =>
        items.length === 0 ? (
          <Typography.Text type="secondary">None of its machines was checked yet.</Typography.Text>
        ) : (
          items.map((c: Check) => (
            <Flex key={c.id} gap={8} wrap>
              <Typography.Text type="secondary">{when(c.ended)}</Typography.Text>
              <b>{c.workstation}</b>
              <Outcome state={c.verdict} />
              <span>{c.noticed.filter((f) => f.verdict !== "good").map((f) => f.text).join("; ")}</span>
            </Flex>
          ))
        )
      }
    </Shown>
  );
}
