import { useQuery } from "@tanstack/react-query";
import { Card, Col, Flex, Row, Table, Tag, Timeline, Typography } from "antd";
import { Link, useNavigate, useParams } from "react-router";
import { ask, client, type Check, type Errand, type Receipt, type ResolvedAnswer, type Workstation } from "../../api/client";
import { when } from "../../format";
import { Acts } from "../../parts/acts/Acts";
import { Doctor } from "../../parts/Doctor";
import { modelOf, modelPath } from "../../parts/model";
import { Outcome } from "../../parts/Outcome";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { Devices } from "./Devices";
import { Health } from "./Health";
import { Parts } from "./Inventory";
import { Lines } from "./Lines";
import { Note } from "./Note";
import { Doing, OnDisk } from "./Roster";

/** How many receipts, checks and errands are shown; the pages of those have the others. */
const most = 10;

/** Everything that is known of one workstation, and what can be done to it. */
export function WorkstationPage() {
  const { workstation = "" } = useParams();
  const query = useQuery({ queryKey: ["workstation", workstation], queryFn: () => ask(client.GET("/workstations/{workstation}", { params: { path: { workstation } } })), refetchInterval: 15_000 });
  return <Shown query={query}>{(w) => <Whole workstation={w} />}</Shown>;
}

function Whole({ workstation: w }: { workstation: Workstation }) {
  const go = useNavigate();
  return (
    <>
      <PageTitle
        title={
          <Flex gap={12} align="center" wrap>
            {w.name}
            <Outcome state={w.state} />
            {w.groups.map((g) => (
              <Link key={g} to={`/workstations?group=${encodeURIComponent(g)}`}>
                <Tag>{g}</Tag>
              </Link>
            ))}
          </Flex>
        }
      >
        <Doing workstation={w} />
        <Acts chosen={[w]} size="middle" renamed={(name) => void go(`/workstations/${name}`, { replace: true })} />
      </PageTitle>
      <Row gutter={[16, 16]}>
        <Col xs={24} xl={14}>
          <Flex vertical gap={16}>
            <Card title={w.model ? <Link to={modelPath(modelOf(w))}>{modelOf(w)}</Link> : "Never seen"} extra={w.serial && `serial number ${w.serial}`}>
              <Parts workstation={{ ...w, note: "" }} />
            </Card>
            <Card title="Note">
              <Note workstation={w} />
            </Card>
            <Card
              title="What was put on its disk"
              extra={
                <Flex gap={12} align="center">
                  <OnDisk workstation={w} />
                  <Link to={`/receipts?search=${encodeURIComponent(w.name)}`}>All receipts</Link>
                </Flex>
              }
            >
              <Receipts name={w.name} />
            </Card>
            <Card title="Devices" extra={<Link to="/drivers">Drivers</Link>} styles={{ body: { padding: 0 } }}>
              <Devices workstation={w} />
            </Card>
            <Card title="Answers in force" extra={<Link to="/answers">Answers</Link>}>
              <Answers name={w.name} />
            </Card>
          </Flex>
        </Col>
        <Col xs={24} xl={10}>
          <Flex vertical gap={16}>
            <Card title="Checks" extra={<Link to="/errands">All checks</Link>}>
              <Checks name={w.name} />
            </Card>
            <Card title="Errands" extra={<Link to="/errands">All errands</Link>}>
              <Errands name={w.name} />
            </Card>
            <Card
              title="Its last boot"
              extra={
                <Flex gap={12} align="center">
                  <Doctor label="Does it not come up?" workstation={w.name} />
                  <Link to="/netboot">Network boot</Link>
                </Flex>
              }
            >
              <Boot workstation={w} />
            </Card>
            <Card title="What has changed in it">
              <Changed workstation={w} />
            </Card>
            <Card title="Logbook" extra={<Link to={`/logbook?search=${encodeURIComponent(w.name)}`}>All lines</Link>}>
              <Lines name={w.name} />
            </Card>
          </Flex>
        </Col>
      </Row>
    </>
  );
}

function Nothing({ words }: { words: string }) {
  return <Typography.Text type="secondary">{words}</Typography.Text>;
}

function Receipts({ name }: { name: string }) {
  const query = useQuery({ queryKey: ["receipts", "of", name], queryFn: () => ask(client.GET("/receipts", { params: { query: { workstation: name, limit: most } } })) });
  return (
    <Shown query={query}>
      {({ items }) =>
        items.length === 0 ? (
          <Nothing words="Nothing yet: each delivery and each wipe leaves a receipt." />
        ) : (
          <Timeline
            items={items.map((r) => ({
              key: r.id,
              content: (
                <>
                  <Flex gap={8} wrap align="center">
                    <Typography.Text type="secondary">{when(r.ended)}</Typography.Text>
                    <b>{r.wipe ? "wiped" : `${r.image}@${r.version}`}</b>
                    <Outcome state={r.outcome} />
                    {!r.wipe && <Link to={`/deliveries/${r.delivery}`}>delivery {r.delivery}</Link>}
                  </Flex>
                  {words(r).map((line) => (
                    <div key={line}>{line}</div>
                  ))}
                </>
              ),
            }))}
          />
        )
      }
    </Shown>
  );
}

/** What else a receipt says. */
function words(r: Receipt): string[] {
  const lines = [];
  if (r.reason) lines.push(r.reason);
  if (r.drivers?.length) lines.push(`drivers: ${r.drivers.join(", ")}`);
  if (r.arrival) lines.push(r.arrival.at ? `started for the first time ${when(r.arrival.at)}` : `its first start: ${r.arrival.state}`);
  return lines;
}

function Answers({ name }: { name: string }) {
  const query = useQuery({ queryKey: ["answers", "of", name], queryFn: () => ask(client.GET("/workstations/{workstation}/answers", { params: { path: { workstation: name } } })) });
  return (
    <Shown query={query}>
      {({ answers, problems }) => (
        <>
          {problems.map((p) => (
            <Typography.Paragraph key={p} type="danger">
              {p}
            </Typography.Paragraph>
          ))}
          <Table<ResolvedAnswer>
            size="small"
            rowKey="key"
            pagination={false}
            dataSource={answers}
            locale={{ emptyText: "None: copies are as the golden machine was." }}
            columns={[
              { title: "Answer", dataIndex: "key" },
              { title: "Value", render: (_, a) => inWords(a) },
              { title: "Set by", dataIndex: "set_by" },
            ]}
          />
        </>
      )}
    </Shown>
  );
}

function inWords(a: ResolvedAnswer): string {
  if (a.secret) return "a secret";
  return typeof a.value === "string" ? a.value : JSON.stringify(a.value);
}

function Checks({ name }: { name: string }) {
  const query = useQuery({ queryKey: ["checks", "of", name], queryFn: () => ask(client.GET("/checks", { params: { query: { workstation: name, limit: most } } })) });
  return (
    <Shown query={query}>
      {({ items }) =>
        items.length === 0 ? (
          <Nothing words="It was not checked yet: More, Check…" />
        ) : (
          <>
            {items.map((c: Check) => (
              <Flex key={c.id} gap={8} wrap>
                <Typography.Text type="secondary">{when(c.ended)}</Typography.Text>
                <Outcome state={c.verdict} />
                <span>{c.noticed.filter((f) => f.verdict !== "good").map((f) => f.about).join(", ")}</span>
              </Flex>
            ))}
            <Health checks={items} />
          </>
        )
      }
    </Shown>
  );
}

function Errands({ name }: { name: string }) {
  const query = useQuery({ queryKey: ["errands", "of", name], queryFn: () => ask(client.GET("/errands", { params: { query: { workstation: name, sort: "-created", limit: most } } })) });
  return (
    <Shown query={query}>
      {({ items }) =>
        items.length === 0 ? (
          <Nothing words="It was asked for nothing yet." />
        ) : (
          items.map((e: Errand) => (
            <Flex key={e.id} gap={8} wrap>
              <Typography.Text type="secondary">{when(e.created)}</Typography.Text>
              <span>{[e.kind, e.image && `${e.image}${e.version ? `@${e.version}` : ""}`].filter(Boolean).join(" ")}</span>
              <Outcome state={e.state} />
              {e.error && <Typography.Text type="danger">{e.error}</Typography.Text>}
            </Flex>
          ))
        )
      }
    </Shown>
  );
}

function Changed({ workstation: w }: { workstation: Workstation }) {
  if (!w.inventory_changes?.length) return <Nothing words="Nothing since it was seen first: disks, memory, cards, firmware." />;
  return w.inventory_changes.slice(0, most).map((c) => (
    <Flex key={c.at + c.what} gap={8} wrap>
      <Typography.Text type="secondary">{when(c.at)}</Typography.Text>
      <span>{c.what}</span>
    </Flex>
  ));
}

function Boot({ workstation: w }: { workstation: Workstation }) {
  const query = useQuery({ queryKey: ["netboot"], queryFn: () => ask(client.GET("/netboot", {})) });
  return (
    <Shown query={query}>
      {({ machines }) => {
        const trail = machines.find((m) => w.hardware_addresses.includes(m.hardware_address));
        if (!trail) return <Nothing words="It was not seen booting since the service started." />;
        return (
          <>
            {trail.stuck && <Typography.Paragraph type="warning">{trail.stuck}</Typography.Paragraph>}
            {trail.steps.map((s) => (
              <Flex key={s.at + s.step} gap={8} wrap>
                <Typography.Text type="secondary">{when(s.at)}</Typography.Text>
                <b>{s.step}</b>
                <span>{s.detail}</span>
              </Flex>
            ))}
          </>
        );
      }}
    </Shown>
  );
}
