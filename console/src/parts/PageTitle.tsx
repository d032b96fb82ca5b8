import { Flex, Typography } from "antd";
import type { ReactNode } from "react";

/** The head of a page: its title, and what can be done there. */
export function PageTitle({ title, children }: { title: ReactNode; children?: ReactNode }) {
  return (
    <Flex align="center" gap={12} wrap style={{ marginBottom: 16 }}>
      <Typography.Title level={3} style={{ margin: 0, flex: 1 }}>
        {title}
      </Typography.Title>
      {children}
    </Flex>
  );
}
