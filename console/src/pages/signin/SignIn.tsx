import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Card, Flex, Form, Input, Typography } from "antd";
import { ask, client } from "../../api/client";

export function SignIn() {
  const queries = useQueryClient();
  const signIn = useMutation({
    mutationFn: (body: { token: string }) => ask(client.POST("/session", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["session"] }),
  });
  return (
    <Flex align="center" justify="center" style={{ minHeight: "100vh", background: "#f4f3ee" }}>
      <Card style={{ width: 440 }}>
        <Flex align="center" gap={10} style={{ marginBottom: 16 }}>
          <img src="/mark.svg" alt="" width={36} height={36} />
          <Typography.Title level={3} style={{ margin: 0 }}>
            Jugate
          </Typography.Title>
        </Flex>
        <Form layout="vertical" onFinish={(v: { token: string }) => signIn.mutate(v)}>
          <Form.Item
            name="token"
            label="Administrator's token"
            extra="It is in the file admin.token of the service's data folder."
            rules={[{ required: true, message: "Paste the token here." }]}
          >
            <Input.Password autoFocus autoComplete="current-password" />
          </Form.Item>
          {signIn.isError && <Alert type="error" showIcon title={signIn.error.message} style={{ marginBottom: 16 }} />}
          <Button type="primary" htmlType="submit" loading={signIn.isPending} block>
            Sign in
          </Button>
        </Form>
      </Card>
    </Flex>
  );
}
