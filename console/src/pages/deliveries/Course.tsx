import { useQuery } from "@tanstack/react-query";
import { Card, Col, Row, Typography } from "antd";
import { useMemo } from "react";
import { ask, client, type Delivery, type DeliveryCourse } from "../../api/client";
import { perSecond, rate, share, tenth } from "../../format";
import { Chart, type Line } from "../../parts/Chart";
import { Shown } from "../../parts/Shown";
import { useLines } from "../../theme";

/** How often the course of a delivery that runs is looked at again, in milliseconds. */
const again = 3000;

/** What a delivery did over time: rate and loss, disks, and a line for each workstation. */
export function Course({ delivery: d }: { delivery: Delivery }) {
  const query = useQuery({
    queryKey: ["course", d.id, !!d.ended],
    queryFn: () => ask(client.GET("/deliveries/{delivery}/course", { params: { path: { delivery: d.id } } })),
    refetchInterval: d.ended ? false : again,
  });
  return <Shown query={query}>{(c) => (c.samples.length > 0 ? <Charts course={c} /> : <Nothing ended={!!d.ended} />)}</Shown>;
}

function Nothing({ ended }: { ended: boolean }) {
  return <Typography.Text type="secondary">{ended ? "No course was recorded: the delivery never began, or it ran before courses were recorded." : "The picture begins when the stream does."}</Typography.Text>;
}

const left = {
  rate: (bits: number) => (bits > 0 ? rate(Number(bits.toPrecision(3))) : "0"),
  share: (of: number) => share(of) || "0",
  disk: (bytes: number) => perSecond(bytes) || "0",
  done: (percent: number) => (percent <= 100 ? `${percent} %` : `checked ${percent - 100} %`),
};

function Charts({ course: c }: { course: DeliveryCourse }) {
  const lines = useLines();
  const begin = new Date(c.samples[0]!.at).getTime();
  const times = useMemo(() => c.samples.map((s) => (new Date(s.at).getTime() - begin) / 1000), [c, begin]);
  const wire = useMemo<Line[]>(
    () => [
      { label: "rate of the stream", colour: lines.first, values: c.samples.map((s) => s.rate_now) },
      { label: "most that one lost", colour: lines.bad, right: true, values: c.samples.map((s) => s.loss_worst) },
      { label: "the one in the middle lost", colour: lines.second, right: true, values: c.samples.map((s) => s.loss_middle) },
    ],
    [c, lines],
  );
  const disks = useMemo<Line[]>(
    () => [
      { label: "the disk in the middle", colour: lines.first, values: c.samples.map((s) => s.disk_middle || null) },
      { label: "the slowest", colour: lines.second, values: c.samples.map((s) => s.disk_worst || null) },
    ],
    [c, lines],
  );
  const members = useMemo<Line[]>(
    () => c.member_names.map((label, i) => ({ label, colour: [lines.first, lines.second, lines.quiet, lines.bad][i % 4]!, values: c.samples.map((s) => ((s.done_percent[i] ?? -1) < 0 ? null : s.done_percent[i]!)) })),
    [c, lines],
  );
  const most = Math.max(...c.samples.map((s) => s.rate_now), 0);
  const lost = Math.max(...c.samples.map((s) => s.loss_worst), 0);
  return (
    <Row gutter={[16, 16]}>
      <Col xs={24} lg={12}>
        <Card size="small" title="Stream">
          <Chart about={`Rate of the stream, ${rate(most)} at the most, and what was lost, ${tenth(100 * lost)} % at the most`} times={times} lines={wire} left={left.rate} right={left.share} />
        </Card>
      </Col>
      <Col xs={24} lg={12}>
        <Card size="small" title="Disks, while they receive">
          <Chart about="What the disks took: the one in the middle, and the slowest" times={times} lines={disks} left={left.disk} />
        </Card>
      </Col>
      <Col span={24}>
        <Card size="small" title="Workstations" extra="to 100 % while one receives, then while it checks its disk">
          <Chart about={`How far each of ${c.member_names.length} workstations was`} times={times} lines={members} left={left.done} top={200} height={240} />
        </Card>
      </Col>
    </Row>
  );
}
