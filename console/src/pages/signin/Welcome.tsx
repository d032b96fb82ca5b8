import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, Button, Form, Input, Result, Spin, Typography } from "antd";
import { ask, client } from "../../api/client";
import { Doorway } from "../../parts/Doorway";
import { Password } from "../../parts/Password";

interface Given {
  person?: string;
  full_name?: string;
  password: string;
}

/** Where a link to set a password leads. Its secret is behind the #, which browsers send to nobody. */
export function Welcome() {
  const invitation = location.hash.slice(1);
  const path = { invitation };
  const invited = useQuery({ queryKey: ["invitation", invitation], queryFn: () => ask(client.GET("/invitations/{invitation}", { params: { path } })), retry: false });
  const accept = useMutation({
    mutationFn: (body: Given) => ask(client.POST("/invitations/{invitation}", { params: { path }, body })),
    onSuccess: () => location.replace("/"),
  });
  if (invited.isPending) return <Spin fullscreen />;
  if (invited.isError) return <Result status="warning" title={invited.error.message} subTitle="Ask whoever gave it to you for another." />;
  const first = invited.data.person === "";
  return (
    <Doorway>
      <Typography.Paragraph>
        {first ? "You are the first: who signs in here becomes an administrator." : `Welcome, ${invited.data.person}. Choose a password.`}
      </Typography.Paragraph>
      <Form layout="vertical" onFinish={(v: Given & { again: string }) => accept.mutate({ person: v.person, full_name: v.full_name, password: v.password })}>
        {first && (
          <>
            <Form.Item name="person" label="Name" extra="With which you sign in" rules={[{ required: true, message: "Choose one." }]}>
              <Input autoFocus autoComplete="username" />
            </Form.Item>
            <Form.Item name="full_name" label="Full name">
              <Input autoComplete="name" />
            </Form.Item>
          </>
        )}
        <Form.Item name="password" label="Password" extra="12 characters at least; a few words are easy to keep in mind" rules={[{ required: true, min: 12, message: "12 characters at least." }]}>
          <Password autoComplete="new-password" />
        </Form.Item>
        <Form.Item
          name="again"
          label="Once more"
          dependencies={["password"]}
          rules={[
            { required: true, message: "Type it once more." },
            ({ getFieldValue }) => ({ validator: (_, v) => (!v || v === getFieldValue("password") ? Promise.resolve() : Promise.reject(new Error("This is another one."))) }),
          ]}
        >
          <Password autoComplete="new-password" />
        </Form.Item>
        {accept.isError && <Alert type="error" showIcon title={accept.error.message} style={{ marginBottom: 16 }} />}
        <Button type="primary" htmlType="submit" loading={accept.isPending} block>
          Set it and sign in
        </Button>
      </Form>
    </Doorway>
  );
}
