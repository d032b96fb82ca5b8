import { Tooltip, Typography } from "antd";
import type { Workstation } from "../../api/client";
import { size, whole } from "../../format";

/** The sizes of a workstation's disks. */
export function Disks({ workstation }: { workstation: Workstation }) {
  if (!workstation.last_seen) return null;
  if (workstation.disk_sizes.length === 0) return <Typography.Text type="danger">none</Typography.Text>;
  return workstation.disk_sizes.map((bytes, i) => (
    <Tooltip key={i} title={`${whole(bytes)} bytes`}>
      <div>{size(bytes)}</div>
    </Tooltip>
  ));
}
