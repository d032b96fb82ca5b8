import { Alert, Flex, Tag, Typography } from "antd";
import type { Version } from "../../api/client";
import { whole } from "../../format";

const colour = { blocking: "red", warning: "orange", note: "default" } as const;

/** What spoke against the disk when it was captured, why it was captured all the same, and what copies lack. */
export function Findings({ version }: { version: Version }) {
  const findings = version.findings ?? [];
  return (
    <Flex vertical gap={6} style={{ marginBottom: 12 }}>
      {version.despite && <Alert type="warning" showIcon title={`Captured in spite of what was found: “${version.despite}”`} />}
      {!!version.unreadable_bytes && (
        <Alert type="error" showIcon title={`${whole(version.unreadable_bytes)} bytes of the golden disk could not be read; copies have zeros there`} />
      )}
      {findings.map((f, i) => (
        <div key={i}>
          <Tag color={colour[f.severity]} style={{ marginInlineEnd: 8 }}>{f.severity}</Tag>
          {f.where}: {f.what} {f.means && <Typography.Text type="secondary">— {f.means}</Typography.Text>}
        </div>
      ))}
    </Flex>
  );
}
