import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, Button, Form, Input } from "antd";
import { useState } from "react";
import { ask, client, Problem, type Session } from "../api/client";
import { Password } from "./Password";

interface Given {
  name?: string;
  password?: string;
  second_factor_code?: string;
  token?: string;
}

/** The type of the problem that asks for a code. */
const codeType = "tag:jugate.example,2026:second-factor";

interface Props {
  /** What the form is called, where another one may be on the page. */
  name?: string;
  /** What went wrong before. */
  refused?: string | null;
  /** Whether providers open in a window of their own, as what is on the page has to stay. */
  stay?: boolean;
  done: (session: Session) => void;
}

/** Asks who somebody is: by name and password, by a provider, or by the key of last resort. */
export function SignInForm({ name, refused, stay = false, done }: Props) {
  const [byToken, setByToken] = useState(false);
  const [codeNeeded, setCodeNeeded] = useState(false);
  const signIn = useMutation({
    mutationFn: (body: Given) => ask(client.POST("/session", { body })),
    onError: (e) => {
      if (e instanceof Problem && e.type === codeType) setCodeNeeded(true);
    },
    onSuccess: done,
  });
  const providers = useQuery({ queryKey: ["providers"], queryFn: () => ask(client.GET("/providers")) });
  const turn = () => {
    signIn.reset();
    setByToken(!byToken);
  };
  return (
    <Form name={name} key={String(byToken)} layout="vertical" onFinish={(v: Given) => signIn.mutate(v)}>
      {byToken ? (
        <Form.Item
          name="token"
          label="Key of last resort"
          extra="It is in the file admin.token of the service's data folder."
          rules={[{ required: true, message: "Paste the key here." }]}
        >
          <Password autoFocus autoComplete="off" />
        </Form.Item>
      ) : (
        <>
          <Form.Item name="name" label="Name" rules={[{ required: true, message: "Who are you?" }]}>
            <Input autoFocus autoComplete="username" />
          </Form.Item>
          <Form.Item name="password" label="Password" rules={[{ required: true, message: "It is needed." }]}>
            <Password autoComplete="current-password" />
          </Form.Item>
          {codeNeeded && (
            <Form.Item name="second_factor_code" label="Code of your second factor" rules={[{ required: true, message: "Six digits." }]}>
              <Input autoFocus inputMode="numeric" autoComplete="one-time-code" />
            </Form.Item>
          )}
        </>
      )}
      {refused && !signIn.isError && <Alert type="error" showIcon title={refused} style={{ marginBottom: 16 }} />}
      {signIn.isError && <Alert type={signIn.error instanceof Problem && signIn.error.type === codeType ? "info" : "error"} showIcon title={signIn.error.message} style={{ marginBottom: 16 }} />}
      <Button type="primary" htmlType="submit" loading={signIn.isPending} block>
        Sign in
      </Button>
      {providers.data?.items.map((p) => (
        <Button key={p.directory} href={p.sign_in_path} target={stay ? "_blank" : undefined} block style={{ marginTop: 8 }}>
          {`Sign in by ${p.directory}`}
        </Button>
      ))}
      <Button type="link" block onClick={turn} style={{ marginTop: 8 }}>
        {byToken ? "Sign in by name and password" : "Use the key of last resort"}
      </Button>
    </Form>
  );
}
