import { useQuery } from "@tanstack/react-query";
import { Button, Card, Col, Empty, Flex, Popconfirm, Progress, Row, Tag, Typography } from "antd";
import { Link } from "react-router";
import { ask, client, type Delivery, type Need, type Overview, type PartState } from "../../api/client";
import { useChange } from "../../api/useChange";
import { left, percent, when } from "../../format";
import { DeliveryState } from "../../parts/DeliveryState";
import { Doctor } from "../../parts/Doctor";
import { Finding } from "../../parts/Finding";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { leaf, ochre } from "../../theme";

const colours: Record<Need["kind_of_need"], string> = { failures: "red", deliveries: "orange", arrivals: "orange", checks: "red", boots: "orange", newcomers: "blue", cards: "blue" };

/** What somebody looks at first: what needs them, what runs, what is next, and how each part of the service is. */
export function Start() {
  // Events bring what changes; how parts are changes with time alone.
  const query = useQuery({ queryKey: ["overview"], queryFn: () => ask(client.GET("/overview", {})), refetchInterval: 15_000 });
  return (
    <>
      <PageTitle title="Now" />
      <Shown query={query}>
        {(o) => (
          <Row gutter={[16, 16]}>
            <Col xs={24} lg={14}>
              <Flex vertical gap={16}>
                <Needs needs={o.attention} />
                <Runs overview={o} />
                <Next overview={o} />
              </Flex>
            </Col>
            <Col xs={24} lg={10}>
              <Parts parts={o.service_parts} />
            </Col>
          </Row>
        )}
      </Shown>
    </>
  );
}

function Needs({ needs }: { needs: Need[] }) {
  return (
    <Card title="What needs somebody now">
      {needs.length === 0 ? (
        <Empty image={Empty.PRESENTED_IMAGE_SIMPLE} description="Nothing: every delivery gets on, and nobody waits." />
      ) : (
        <Flex vertical gap={12}>
          {needs.map((n) => (
            <Flex key={n.kind_of_need} gap={12} align="start">
              <Tag color={colours[n.kind_of_need]} style={{ minWidth: 36, textAlign: "center" }}>
                {n.count}
              </Tag>
              <div style={{ flex: 1, minWidth: 0 }}>
                <Link to={n.page}>{n.what}</Link>
                {n.since && <Typography.Text type="secondary"> since {when(n.since)}</Typography.Text>}
                {n.names.map((name) => (
                  <div key={name}>
                    <Typography.Text type="secondary">{name}</Typography.Text>
                  </div>
                ))}
                {n.count > n.names.length && n.names.length > 0 && <Typography.Text type="secondary">and others</Typography.Text>}
              </div>
            </Flex>
          ))}
        </Flex>
      )}
    </Card>
  );
}

function Runs({ overview: o }: { overview: Overview }) {
  const errands = o.open_errands === 0 ? "no errand is open" : o.open_errands === 1 ? "1 errand is open" : `${o.open_errands} errands are open`;
  return (
    <Card title="What runs" extra={<Link to="/errands">{errands}</Link>}>
      {o.open_deliveries.length === 0 ? (
        <Typography.Text type="secondary">No delivery is under way.</Typography.Text>
      ) : (
        <Flex vertical gap={12}>
          {o.open_deliveries.map((d) => (
            <Running key={d.id} delivery={d} />
          ))}
        </Flex>
      )}
    </Card>
  );
}

function Running({ delivery: d }: { delivery: Delivery }) {
  return (
    <div>
      <Flex gap={8} align="center" wrap>
        <Link to={`/deliveries/${d.id}`}>
          Delivery {d.id} of {d.image}@{d.version}
        </Link>
        <DeliveryState delivery={d} />
        <Typography.Text type="secondary">{[`${d.delivered} of ${d.workstation_count} have it`, d.seconds_left !== undefined && `${left(d.seconds_left)} left`].filter(Boolean).join(", ")}</Typography.Text>
      </Flex>
      {d.slabs > 0 && <Progress size="small" percent={percent(d.sent_slabs, d.slabs)} strokeColor={d.state === "sending" ? ochre : leaf} aria-label={`How much of delivery ${d.id} was sent`} />}
    </div>
  );
}

function Next({ overview: o }: { overview: Overview }) {
  return (
    <Card title="What is next" extra={<Link to="/orders">Orders</Link>}>
      {o.next_runs.length === 0 ? (
        <Typography.Text type="secondary">No order runs by itself.</Typography.Text>
      ) : (
        o.next_runs.map((n) => (
          <Flex key={n.order + n.at} gap={8} wrap>
            <Typography.Text strong>{when(n.at)}</Typography.Text>
            <span>{n.order}</span>
            {n.problem && <Typography.Text type="warning">{n.problem}</Typography.Text>}
          </Flex>
        ))
      )}
    </Card>
  );
}

/** Begins a part anew, having said what happens then. */
function Again({ part: p }: { part: PartState }) {
  const restart = useChange(() => ask(client.POST("/parts/restart", { body: { part: p.part } })), ["overview"], (now) => `${now.part}: ${now.what}`);
  return (
    <Popconfirm title={`Begin ${p.part} anew?`} description={<div style={{ maxWidth: 320 }}>{p.restart_means}</div>} okText="Begin anew" onConfirm={() => restart.mutate(undefined)}>
      <Button size="small" type={p.state === "good" ? "text" : "default"} loading={restart.isPending} style={{ marginLeft: 8 }} aria-label={`Begin anew: ${p.part}`}>
        Begin anew
      </Button>
    </Popconfirm>
  );
}

function Parts({ parts }: { parts: PartState[] }) {
  const troubled = parts.filter((p) => p.state !== "good").length;
  return (
    <Card
      title="How the service is"
      extra={
        <Flex gap={12} align="center">
          {troubled === 0 ? "everything is well" : troubled === 1 ? "1 part wants a look" : `${troubled} parts want a look`}
          <Doctor label="Ask the doctor" />
        </Flex>
      }
    >
      <Flex vertical gap={10}>
        {parts.map((p) => (
          <Finding
            key={p.part + p.what}
            state={p.state}
            what={p.what}
            cure={p.cure}
            title={
              <>
                <Link to={p.page}>{p.part}</Link>
                {p.restart_means && <Again part={p} />}
              </>
            }
          />
        ))}
      </Flex>
    </Card>
  );
}
