import { Typography, theme } from "antd";
import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { span } from "../format";

export interface Line {
  label: string;
  /** One for each time; nothing where nothing is known. */
  values: (number | null)[];
  colour: string;
  /** On the axis at the right. */
  right?: boolean;
}

interface Props {
  /** What is drawn, for who does not see it, with what it comes to. */
  about: string;
  /** Seconds since the beginning. */
  times: number[];
  lines: Line[];
  /** How values of each axis are written. */
  left: (value: number) => string;
  right?: (value: number) => string;
  /** How times are written; as minutes and seconds if nothing is said. */
  at?: (seconds: number) => string;
  /** Where the left axis ends, if that does not follow from the values. */
  top?: number;
  height?: number;
}

/** How many lines have their names below the chart; of more, just the one that the pointer is at. */
const named = 6;

/** Lines over time. */
export function Chart({ about, times, lines, left, right, at = span, top, height = 180 }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const [near, setNear] = useState<string>();
  const { token } = theme.useToken();
  const many = lines.length > named;
  useEffect(() => {
    const box = place.current!;
    const axis = { stroke: token.colorTextSecondary, grid: { stroke: token.colorSplit, width: 1 }, ticks: { stroke: token.colorSplit, width: 1 }, size: 78 };
    const chart = new uPlot(
      {
        width: box.clientWidth,
        height,
        scales: { x: { time: false }, y: { range: (_, __, max) => [0, top ?? Math.max(max ?? 0, 0.001) * 1.1] }, right: { range: (_, __, max) => [0, Math.max(max ?? 0, 0.001) * 1.1] } },
        axes: [
          { ...axis, size: 32, values: (_, all) => all.map(at) },
          { ...axis, values: (_, all) => all.map(left) },
          ...(right ? [{ ...axis, scale: "right", side: 1 as const, grid: { show: false }, values: (_: uPlot, all: number[]) => all.map(right) }] : []),
        ],
        series: [
          { label: "after", value: (_, v) => (v === null ? "–" : at(v)) },
          ...lines.map((l) => ({ label: l.label, stroke: l.colour, width: many ? 1 : 2, scale: l.right ? "right" : "y", points: { size: 5 }, value: (_: uPlot, v: number | null) => (v === null ? "–" : (l.right && right ? right : left)(v)) })),
        ],
        legend: { show: !many },
        cursor: { drag: { x: false, y: false }, focus: { prox: many ? 24 : -1 } },
        focus: { alpha: 0.25 },
        hooks: many ? { setSeries: [(_, i) => setNear(i ? lines[i - 1]?.label : undefined)] } : {},
      },
      [times, ...lines.map((l) => l.values)],
      box,
    );
    const fit = new ResizeObserver(() => chart.setSize({ width: box.clientWidth, height }));
    fit.observe(box);
    return () => {
      fit.disconnect();
      chart.destroy();
    };
  }, [times, lines, left, right, at, top, height, many, token]);
  return (
    <>
      <div role="img" aria-label={about} ref={place} style={{ minHeight: height }} />
      {many && <Typography.Text type="secondary">{near ?? "Point at a line to see whose it is."}</Typography.Text>}
    </>
  );
}
