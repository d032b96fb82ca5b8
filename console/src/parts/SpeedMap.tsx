import { theme, Tooltip } from "antd";
import { perSecond, size } from "../format";
import type { Surface } from "../api/client";

const bad = "#cf1322";
const usual = "#3f7d58";
const low = "#d48806";

/** The middle speed of what was read. */
const median = (speeds: number[]) => speeds.filter((v) => v > 0).sort((a, b) => a - b)[Math.floor(speeds.filter((v) => v > 0).length / 2)] ?? 0;

/** How fast each part of a disk is, from its start to its end, beside the fastest; what cannot be read is red from top to bottom. */
export function SpeedMap({ surface: s, height, most }: { surface: Surface; height: number; most?: number }) {
  const { token } = theme.useToken();
  const speeds = s.speeds;
  const top = most ?? Math.max(...speeds, 1);
  const each = Math.ceil(s.size / Math.max(speeds.length, 1));
  const middle = median(speeds);
  const lost = (i: number) => s.unreadable.some((u) => u.from_byte < (i + 1) * each && u.from_byte + u.length > i * each);
  return (
    <svg role="img" aria-label="speed of the disk" viewBox={`0 0 ${speeds.length} 100`} preserveAspectRatio="none" style={{ width: "100%", height, display: "block", background: token.colorFillQuaternary }}>
      {speeds.map((v, i) => {
        const full = lost(i) ? 100 : Math.min(100, (100 * v) / top);
        return (
          <rect key={i} x={i} y={100 - full} width={1.05} height={full} fill={lost(i) ? bad : v < middle / 4 ? low : usual}>
            <title>{`from ${size(i * each)}: ${lost(i) ? "cannot be read" : perSecond(v)}`}</title>
          </rect>
        );
      })}
    </svg>
  );
}

/** What the map shows, in words. */
export function SpeedLegend({ surface: s }: { surface: Surface }) {
  return (
    <Tooltip title={s.is_sample ? "A sample of each part was read." : "All of it was read."}>
      <span>{`${size(s.size)}, up to ${perSecond(Math.max(...s.speeds, 0))}, as a rule ${perSecond(median(s.speeds))}`}</span>
    </Tooltip>
  );
}
