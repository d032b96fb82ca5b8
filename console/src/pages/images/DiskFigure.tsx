import { Flex, Tooltip, Typography } from "antd";
import type { Area, Version } from "../../api/client";
import { size } from "../../format";
import { leaf, ochre, slate } from "../../theme";

const colours: Record<string, string> = { fat12: ochre, fat16: ochre, fat32: ochre, ext4: leaf };

/** The disk as a bar: each partition as wide as its share (small ones wide enough to see), filled as far as it is used. */
export function DiskFigure({ version }: { version: Version }) {
  const partitions = (version.areas ?? []).filter((a) => a.partition > 0);
  return (
    <div style={{ marginBottom: 12 }}>
      <Flex gap={3} style={{ height: 84 }}>
        {partitions.map((a) => (
          <Partition key={a.partition} area={a} share={a.size / version.disk_bytes} />
        ))}
      </Flex>
      <Typography.Text type="secondary">
        @{version.version}: {size(version.used_bytes)} in use of {size(version.disk_bytes)}; fits onto disks of at least{" "}
        {(version.need_bytes ?? 0).toLocaleString("en")} bytes
      </Typography.Text>
    </div>
  );
}

function Partition({ area, share }: { area: Area; share: number }) {
  const colour = colours[area.kind] ?? slate;
  const used = (100 * area.used_bytes) / area.size;
  return (
    <Tooltip title={`begins at byte ${area.start.toLocaleString("en")}, ${area.size.toLocaleString("en")} bytes, UUID ${area.uuid || "none"}`}>
      <div
        style={{
          flex: `${Math.max(share, 0.12)} 1 0`,
          border: `1px solid ${colour}`,
          borderRadius: 4,
          padding: "6px 10px",
          overflow: "hidden",
          whiteSpace: "nowrap",
          background: `linear-gradient(to right, ${colour}38 ${used}%, white ${used}%)`,
        }}
      >
        <b>
          {`${area.partition} · ${area.name || "unnamed"}`}
        </b>
        <div>{area.label ? `${area.kind} “${area.label}”` : area.kind}</div>
        <div>{`${size(area.used_bytes)} of ${size(area.size)}`}</div>
      </div>
    </Tooltip>
  );
}
