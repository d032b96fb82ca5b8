import { Badge, Flex, Typography } from "antd";
import type { ReactNode } from "react";
import type { Diagnosis } from "../api/client";

const signs: Record<Diagnosis["state"], "success" | "warning" | "error"> = { good: "success", warning: "warning", bad: "error" };

/** How something is, and what to do about it. */
export function Finding({ title, state, what, cure }: { title: ReactNode; state: Diagnosis["state"]; what: string; cure?: string }) {
  return (
    <Flex gap={8} align="start">
      <Badge status={signs[state]} title={state} />
      <div style={{ flex: 1 }}>
        <div>{title}</div>
        <div>{what}</div>
        {cure && <Typography.Text type="secondary">{cure}</Typography.Text>}
      </div>
    </Flex>
  );
}
