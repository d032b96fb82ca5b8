import { Flex, Typography } from "antd";
import { useCallback, useMemo } from "react";
import type { Check } from "../../api/client";
import { day, whole } from "../../format";
import { Chart, type Line } from "../../parts/Chart";
import { useLines } from "../../theme";

/** How many checks make a trend. */
const fewest = 2;

const second = (check: Check) => new Date(check.ended).getTime() / 1000;

/** What a workstation's disk said of itself, check by check: defects that get more, and life that is used up, are seen before it fails. */
export function Health({ checks }: { checks: Check[] }) {
  const told = useMemo(() => {
    const all = checks.filter((c) => c.disk_vitals && !c.disk_vitals.silent).reverse();
    const serial = all.at(-1)?.disk_vitals?.disk_serial;
    return all.filter((c) => c.disk_vitals!.disk_serial === serial); // of another disk it would be no trend
  }, [checks]);
  const times = useMemo(() => told.map((c) => second(c) - second(told[0]!)), [told]);
  const colours = useLines();
  const lines = useMemo<Line[]>(
    () => [
      { label: "defects", colour: colours.bad, values: told.map((c) => c.disk_vitals!.defects) },
      { label: "life used", colour: colours.second, right: true, values: told.map((c) => c.disk_vitals!.life_used_percent) },
    ],
    [told, colours],
  );
  const at = useCallback((s: number) => (told[0] ? day(new Date((s + second(told[0])) * 1000)) : ""), [told]);
  if (told.length === 0) return null;
  const last = told.at(-1)!.disk_vitals!;
  return (
    <Flex vertical gap={4} style={{ marginTop: 12 }}>
      <Typography.Text>{`Disk ${last.disk_serial}: ${last.wrong.concat(last.odd).join(", ") || "good"}; on for ${whole(last.hours)} hours, ${last.temperature} °C, ${last.life_used_percent} % of its life used, ${whole(last.defects)} defects`}</Typography.Text>
      {told.length >= fewest && <Chart about={`Defects of the disk, ${told[0]!.disk_vitals!.defects} at first and ${last.defects} now, and what of its life is used, ${last.life_used_percent} % now`} times={times} lines={lines} left={whole} right={percentOf} at={at} height={150} />}
    </Flex>
  );
}

const percentOf = (n: number) => `${whole(n)} %`;
