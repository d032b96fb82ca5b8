import { Flex, theme, Tooltip, Typography } from "antd";
import type { Area, Version } from "../../api/client";
import { size, whole } from "../../format";
import { leaf, ochre, rust, slate } from "../../theme";

const colours: Record<string, string> = {
  fat12: ochre, fat16: ochre, fat32: ochre, exfat: ochre,
  ntfs: leaf, ext4: leaf, xfs: leaf, btrfs: leaf, hfsplus: leaf, lvm2: leaf,
  bitlocker: rust, luks: rust,
};

/** Free space of less than this share of the disk is not drawn. */
const least = 0.02;

/** The disk as a bar: each partition as wide as its share (small ones wide enough to see), filled as far as it is used; free space stays empty. */
export function DiskFigure({ version }: { version: Version }) {
  const disk = version.disk_bytes;
  return (
    <div style={{ marginBottom: 12 }}>
      <Flex gap={3} style={{ height: 84 }} role="img" aria-label="Layout of the disk">
        {cells(version).map((c) =>
          typeof c === "number" ? (
            <Free key={`free-${c}`} bytes={c} share={c / disk} />
          ) : (
            <Partition key={c.partition} area={c} share={c.size / disk} />
          ),
        )}
      </Flex>
      <Typography.Text type="secondary">
        @{version.version}: {size(version.used_bytes)} in use of {size(disk)}; fits onto disks of at least {whole((version.need_bytes ?? 0))} bytes
      </Typography.Text>
    </div>
  );
}

/** What lies on the disk, in its order: partitions, and free space as its bytes. A disk without a table is one area. */
function cells(version: Version): (Area | number)[] {
  const areas = [...(version.areas ?? [])].sort((a, b) => a.offset - b.offset);
  const partitions = areas.filter((a) => a.partition > 0);
  const all: (Area | number)[] = [];
  let end = 0;
  for (const a of partitions.length > 0 ? partitions : areas) {
    if (a.offset - end > least * version.disk_bytes) all.push(a.offset - end);
    all.push(a);
    end = a.offset + a.size;
  }
  if (version.disk_bytes - end > least * version.disk_bytes) all.push(version.disk_bytes - end);
  return all;
}

function Free({ bytes, share }: { bytes: number; share: number }) {
  return (
    <Flex align="center" justify="center" style={{ flex: `${Math.max(share, 0.06)} 1 0`, border: `1px dashed ${slate}66`, borderRadius: 4, color: slate, overflow: "hidden", whiteSpace: "nowrap" }}>
      free, {size(bytes)}
    </Flex>
  );
}

function Partition({ area, share }: { area: Area; share: number }) {
  const { token } = theme.useToken();
  const colour = colours[area.kind] ?? slate;
  const used = (100 * area.used_bytes) / area.size;
  const name = area.partition === 0 ? "the whole disk" : `${area.partition} · ${area.name || "unnamed"}`;
  return (
    <Tooltip title={`begins at byte ${whole(area.offset)}, ${whole(area.size)} bytes, UUID ${area.uuid || "none"}${area.whole ? "; copied whole" : ""}`}>
      <div
        style={{
          flex: `${Math.max(share, 0.12)} 1 0`,
          border: `1px solid ${colour}`,
          borderRadius: 4,
          padding: "6px 10px",
          overflow: "hidden",
          whiteSpace: "nowrap",
          background: `linear-gradient(to right, ${colour}38 ${used}%, ${token.colorBgContainer} ${used}%)`,
        }}
      >
        <b>{name}</b>
        <div>{area.label ? `${area.kind} “${area.label}”` : area.kind}</div>
        <div>{`${size(area.used_bytes)} of ${size(area.size)}`}</div>
      </div>
    </Tooltip>
  );
}
