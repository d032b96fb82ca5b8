import { useQuery } from "@tanstack/react-query";
import { Alert, Button, Card, Descriptions, Flex, Popconfirm, Progress, Spin, Table, Tooltip } from "antd";
import { Link } from "react-router";
import { ask, client, type Delivery, type Member } from "../../api/client";
import { useChange } from "../../api/useChange";
import { percent, rate, size, when } from "../../format";
import { Address } from "../../parts/Address";
import { Outcome } from "../../parts/Outcome";
import { leaf, ochre, rust, slate } from "../../theme";

/** One delivery, live: the stream as a whole and each workstation. */
export function DeliveryCard({ id }: { id: number }) {
  const query = useQuery({
    queryKey: ["delivery", id],
    queryFn: () => ask(client.GET("/deliveries/{id}", { params: { path: { id } } })),
  });
  if (query.isError) return <Alert type="error" showIcon title={query.error.message} />;
  if (!query.data) return <Spin />;
  const d = query.data;
  return (
    <Card
      className={`delivery delivery-${d.state}`}
      title={
        <Flex align="center" gap={12}>
          {`${d.image}@${d.version} to ${d.targets.join(", ")}`}
          <Outcome is={d.state} />
        </Flex>
      }
      extra={!d.ended && <Stop delivery={d} />}
    >
      {d.reason && <Alert type="warning" showIcon title={d.reason} style={{ marginBottom: 12 }} />}
      <Descriptions size="small" column={4} style={{ marginBottom: 8 }}>
        <Descriptions.Item label="Starts when">{startInWords(d.start)}</Descriptions.Item>
        <Descriptions.Item label="Stream">{`${d.channel} at ${rate(d.rate)}`}</Descriptions.Item>
        <Descriptions.Item label="In use in the image">{size(d.used_bytes)}</Descriptions.Item>
        <Descriptions.Item label="On the wire">{size(d.wire_bytes)}</Descriptions.Item>
        <Descriptions.Item label="Ordered">{`${when(d.created)} by the ${d.ordered_by}`}</Descriptions.Item>
        <Descriptions.Item label="Started">{when(d.started)}</Descriptions.Item>
        <Descriptions.Item label="Ended">{when(d.ended)}</Descriptions.Item>
        <Descriptions.Item label="Receipts">
          <Link to={`/receipts?delivery=${d.id}`}>show</Link>
        </Descriptions.Item>
      </Descriptions>
      {d.state === "sending" && <Progress percent={percent(d.sent_slabs, d.slabs)} strokeColor={ochre} status="active" format={(p) => `stream ${p} %`} style={{ marginBottom: 8 }} />}
      <Table<Member>
        size="small"
        pagination={false}
        rowKey="workstation"
        dataSource={d.members}
        columns={[
          { title: "Workstation", dataIndex: "workstation", render: (name: string) => <b>{name}</b> },
          { title: "Hardware address", render: (_, m) => <Address of={m.hardware_address} /> },
          { title: "State", render: (_, m) => <Outcome is={m.outcome || m.phase} /> },
          { title: "Progress", width: "34%", render: (_, m) => <Course of={m} /> },
          { title: "By multicast", align: "right", render: (_, m) => size(m.bytes_multicast) },
          { title: "Mended", align: "right", render: (_, m) => size(m.bytes_unicast) },
        ]}
      />
    </Card>
  );
}

function startInWords(rule: string) {
  if (rule === "all") return "all are ready";
  if (rule === "first") return "the first is ready";
  return `${rule.replace("ready:", "")} are ready`;
}

const strokes: Record<string, string> = { receiving: ochre, mending: ochre, checking: slate };

function Course({ of }: { of: Member }) {
  if (of.reason) return <span style={{ color: rust }}>{of.reason}</span>;
  if (of.outcome === "delivered") return <Progress percent={100} size="small" strokeColor={leaf} format={() => "checked"} />;
  if (of.phase === "awaited") return <span>has not called in</span>;
  return (
    <Tooltip title={`${size(of.done)} of ${size(of.total)}`}>
      <Progress percent={percent(of.done, of.total)} size="small" strokeColor={strokes[of.phase]} />
    </Tooltip>
  );
}

function Stop({ delivery }: { delivery: Delivery }) {
  const stop = useChange(() => ask(client.POST("/deliveries/{id}/stop", { params: { path: { id: delivery.id } } })), ["deliveries", "delivery"]);
  return (
    <Popconfirm
      title="Stop this delivery?"
      description="Workstations that are not through are left without a partition table."
      okText="Stop"
      onConfirm={() => stop.mutate(undefined)}
    >
      <Button danger size="small" loading={stop.isPending}>
        Stop
      </Button>
    </Popconfirm>
  );
}
