import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Form, Input } from "antd";
import { useState } from "react";
import { ask, client } from "../../api/client";
import { Doorway } from "../../parts/Doorway";

interface Given {
  name?: string;
  password?: string;
  token?: string;
}

export function SignIn() {
  const queries = useQueryClient();
  const [byToken, setByToken] = useState(false);
  const signIn = useMutation({
    mutationFn: (body: Given) => ask(client.POST("/session", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["session"] }),
  });
  const turn = () => {
    signIn.reset();
    setByToken(!byToken);
  };
  return (
    <Doorway>
      <Form key={String(byToken)} layout="vertical" onFinish={(v: Given) => signIn.mutate(v)}>
        {byToken ? (
          <Form.Item
            name="token"
            label="Key of last resort"
            extra="It is in the file admin.token of the service's data folder."
            rules={[{ required: true, message: "Paste the key here." }]}
          >
            <Input.Password autoFocus autoComplete="off" />
          </Form.Item>
        ) : (
          <>
            <Form.Item name="name" label="Name" rules={[{ required: true, message: "Who are you?" }]}>
              <Input autoFocus autoComplete="username" />
            </Form.Item>
            <Form.Item name="password" label="Password" rules={[{ required: true, message: "It is needed." }]}>
              <Input.Password autoComplete="current-password" />
            </Form.Item>
          </>
        )}
        {signIn.isError && <Alert type="error" showIcon title={signIn.error.message} style={{ marginBottom: 16 }} />}
        <Button type="primary" htmlType="submit" loading={signIn.isPending} block>
          Sign in
        </Button>
        <Button type="link" block onClick={turn} style={{ marginTop: 8 }}>
          {byToken ? "Sign in by name and password" : "Use the key of last resort"}
        </Button>
      </Form>
    </Doorway>
  );
}
