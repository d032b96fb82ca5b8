import { useQuery } from "@tanstack/react-query";
import { Alert, Card, Descriptions, Flex, Progress, Statistic, Tag } from "antd";
import { Link } from "react-router";
import { ask, client, type Delivery } from "../../api/client";
import { useWatch } from "../../api/watched";
import { left, percent, rate, size, when } from "../../format";
import { DeliveryState } from "../../parts/DeliveryState";
import { Outcome } from "../../parts/Outcome";
import { Shown } from "../../parts/Shown";
import { leaf, ochre } from "../../theme";
import { Changes } from "./Changes";
import { Controls } from "./Controls";
import { Course } from "./Course";
import { Members } from "./Members";
import { Story } from "./Story";

/** One delivery, live: the stream as a whole and each workstation; with its course, what it did over time, too. */
export function DeliveryCard({ id, course }: { id: number; course?: boolean }) {
  useWatch(id);
  const query = useQuery({
    queryKey: ["delivery", id],
    queryFn: () => ask(client.GET("/deliveries/{delivery}", { params: { path: { delivery: id } } })),
  });
  return <Shown query={query}>{(d) => <Delivered delivery={d} course={course} />}</Shown>;
}

function Delivered({ delivery: d, course }: { delivery: Delivery; course?: boolean }) {
  return (
    <Card
      className={`delivery delivery-${d.state}${d.paused ? " delivery-paused" : ""}`}
      title={
        <Flex align="center" gap={12}>
          {`${d.image}@${d.version} to ${d.targets.join(", ")}`}
          <DeliveryState delivery={d} />
          {d.paused && <Tag color="volcano">paused</Tag>}
          {d.sealed && <Tag>sealed</Tag>}
          {d.reuse && <Tag>reuses what is right</Tag>}
        </Flex>
      }
      extra={!d.ended && <Controls delivery={d} />}
    >
      {d.reason && <Alert type="warning" showIcon title={d.reason} style={{ marginBottom: 12 }} />}
      {d.warning && <Alert type="info" showIcon title={d.warning} style={{ marginBottom: 12 }} />}
      {d.unicast && <Alert type="warning" showIcon title="The network carries no multicast to these workstations; each is served alone." style={{ marginBottom: 12 }} />}
      {!d.ended && d.state !== "gathering" && <Now delivery={d} />}
      {d.parts?.map((p) => <Part key={p.outpost} part={p} />)}
      <Descriptions size="small" column={4} style={{ marginBottom: 8 }}>
        <Descriptions.Item label="Starts when">{startInWords(d)}</Descriptions.Item>
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
      <Flex vertical gap={16}>
        {d.story && <Story delivery={d} />}
        {course && d.started && <Course delivery={d} />}
        <Members delivery={d} />
        {!d.story && <Changes delivery={d} />}
      </Flex>
    </Card>
  );
}

/** How the group as a whole gets on. */
function Now({ delivery: d }: { delivery: Delivery }) {
  const members = d.members ?? [];
  const alone = members.filter((m) => m.aside && !m.outcome).length;
  const busy = members.filter((m) => !m.outcome && m.phase !== "awaited").length - alone;
  return (
    <Flex align="center" gap={40} style={{ marginBottom: 12 }}>
      <Statistic title="Left for the group" value={left(d.seconds_left) || "not known yet"} styles={{ content: { fontSize: 22 } }} />
      <Statistic title="In the group" value={busy} styles={{ content: { fontSize: 22 } }} />
      <Statistic title="Served alone" value={alone} styles={{ content: { fontSize: 22, color: alone ? ochre : undefined } }} />
      <div style={{ flex: 1 }}>
        <div>{d.rate_now ? `Stream at ${rate(d.rate_now)}${d.round > 1 ? `, round ${d.round}` : ""}` : d.paused ? "The stream is held" : "Nothing is being streamed"}</div>
        <Progress aria-label="How far the stream is" percent={percent(d.sent_slabs, d.slabs)} strokeColor={d.state === "sending" ? ochre : leaf} status={d.paused ? "normal" : "active"} />
      </div>
    </Flex>
  );
}

/** How an outpost gets on, which streams to the workstations of its site. */
function Part({ part: p }: { part: NonNullable<Delivery["parts"]>[number] }) {
  const through = `${p.workstation_count - p.open_count} of ${p.workstation_count} through`;
  const streams = p.rate_now && !p.out_of_reach ? `streams at ${rate(p.rate_now)}${p.round > 1 ? `, round ${p.round}` : ""}` : "";
  return (
    <Flex align="center" gap={16} className="delivery-part" style={{ marginBottom: 12 }}>
      <Link to="/sites">{`At ${p.outpost}`}</Link>
      <Outcome state={p.state} />
      <span>{[through, streams, p.out_of_reach && "nothing is heard of it now; it goes on by itself"].filter(Boolean).join("; ")}</span>
      <Progress aria-label={`How far the stream of ${p.outpost} is`} style={{ flex: 1 }} percent={percent(p.sent_slabs, p.slabs)} strokeColor={p.state === "sending" ? ochre : leaf} size="small" />
    </Flex>
  );
}

function startInWords(d: Delivery) {
  const condition = (c: string) => {
    if (c === "all") return "all are ready";
    if (c === "first") return "the first is ready";
    if (c.startsWith("at:")) return `it is ${when(c.slice(3))}`;
    return `${c.replace("ready:", "")} are ready`;
  };
  const terms = d.start.split(",").map((term) => term.split("+").map(condition).join(" and "));
  if (d.carried_by) return `${terms.join(", or ")}, at the media of ${d.carried_by}`;
  terms.push(`it is ${when(d.at_latest)}`);
  return terms.join(", or ");
}
