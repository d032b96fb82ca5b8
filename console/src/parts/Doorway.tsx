import { Card, Flex, theme, Typography } from "antd";
import type { ReactNode } from "react";

/** The frame of what is shown to who is not signed in. */
export function Doorway({ children }: { children: ReactNode }) {
  const { token } = theme.useToken();
  return (
    <Flex align="center" justify="center" style={{ minHeight: "100vh", background: token.colorBgLayout }}>
      <Card style={{ width: 440 }}>
        <Flex align="center" gap={10} style={{ marginBottom: 16 }}>
          <img src="/mark.svg" alt="" width={36} height={36} />
          <Typography.Title level={3} style={{ margin: 0 }}>
            Jugate
          </Typography.Title>
        </Flex>
        {children}
      </Card>
    </Flex>
  );
}
