import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Divider, Flex, Form, Input, Modal, QRCode, Typography } from "antd";
import { ask, client, type Session } from "../../api/client";
import { Password } from "../../parts/Password";

interface Passwords {
  old_password: string;
  new_password: string;
}

/** One's own account: the password, and a second factor. */
export function Account({ session, onClose }: { session: Session; onClose: () => void }) {
  const { message } = App.useApp();
  const change = useMutation({
    mutationFn: (body: Passwords) => ask(client.PUT("/session/password", { body })),
    onSuccess: () => void message.success("The password is changed; other sessions have ended."),
  });
  return (
    <Modal open title={session.name} footer={null} onCancel={onClose}>
      <Typography.Title level={5}>Second factor</Typography.Title>
      <Factor session={session} />
      {session.has_password && (
        <>
          <Divider />
          <Typography.Title level={5}>Password</Typography.Title>
          <Form layout="vertical" onFinish={(v: Passwords) => change.mutate(v)}>
            <Form.Item name="old_password" label="The password of now" rules={[{ required: true, message: "It is needed." }]}>
              <Password autoComplete="current-password" />
            </Form.Item>
            <Form.Item name="new_password" label="The next one" rules={[{ min: 12, required: true, message: "It has 12 characters at least." }]}>
              <Password autoComplete="new-password" />
            </Form.Item>
            {change.isError && <Alert type="error" showIcon title={change.error.message} style={{ marginBottom: 16 }} />}
            <Button htmlType="submit" loading={change.isPending}>
              Change the password
            </Button>
          </Form>
        </>
      )}
    </Modal>
  );
}

/** Sets or ends a second factor, by a code of it. */
function Factor({ session }: { session: Session }) {
  const queries = useQueryClient();
  const offer = useMutation({ mutationFn: () => ask(client.POST("/session/second-factor")) });
  const tell = useMutation({
    mutationFn: (body: { second_factor_code: string }) =>
      session.has_second_factor ? ask(client.POST("/session/second-factor/remove", { body })) : ask(client.PUT("/session/second-factor", { body })),
    onSuccess: async () => {
      offer.reset();
      await queries.invalidateQueries({ queryKey: ["session"] });
    },
  });
  if (!session.has_second_factor && !offer.data) {
    return (
      <>
        <Typography.Paragraph type="secondary">Signing in can take a code that your telephone shows, beside the password.</Typography.Paragraph>
        {offer.isError && <Alert type="error" showIcon title={offer.error.message} style={{ marginBottom: 16 }} />}
        <Button loading={offer.isPending} onClick={() => offer.mutate()}>
          Set up a second factor
        </Button>
      </>
    );
  }
  return (
    <>
      {offer.data && !session.has_second_factor ? (
        <Flex gap={16} style={{ marginBottom: 16 }}>
          <QRCode value={offer.data.factor_url} size={180} errorLevel="L" type="svg" style={{ flexShrink: 0 }} />
          <div>
            <Typography.Paragraph>Scan this with the program that keeps your codes, or type this into it. Then enter the code that it shows.</Typography.Paragraph>
            <Typography.Text code copyable>
              {offer.data.factor_secret}
            </Typography.Text>
          </div>
        </Flex>
      ) : (
        <Typography.Paragraph>A code is needed beside the password. It ends with a code of it; whoever has lost it asks somebody who may administer.</Typography.Paragraph>
      )}
      <Form layout="inline" onFinish={(v: { second_factor_code: string }) => tell.mutate(v)}>
        <Form.Item name="second_factor_code" rules={[{ required: true, message: "Six digits." }]}>
          <Input placeholder="Code" inputMode="numeric" autoComplete="one-time-code" style={{ width: 120 }} />
        </Form.Item>
        <Button htmlType="submit" loading={tell.isPending} danger={session.has_second_factor}>
          {session.has_second_factor ? "Remove it" : "Confirm"}
        </Button>
      </Form>
      {tell.isError && <Alert type="error" showIcon title={tell.error.message} style={{ marginTop: 16 }} />}
    </>
  );
}
