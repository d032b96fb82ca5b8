import { useQuery } from "@tanstack/react-query";
import { Button, Card, Descriptions, Form, Input, Modal, Popconfirm, Select, Space, Typography } from "antd";
import { useState } from "react";
import { ask, client, type MailSettings, type NewMailSettings } from "../../api/client";
import { useChange } from "../../api/useChange";
import { Password } from "../../parts/Password";
import { Shown } from "../../parts/Shown";

const lines = { starttls: "TLS, begun after the greeting", tls: "TLS from the start", none: "none: a server on this very machine" };

/** The server that takes the service's mail. */
export function MailServer() {
  const [setting, setSetting] = useState(false);
  const [to, setTo] = useState("");
  const mail = useQuery({ queryKey: ["mail-settings"], queryFn: () => ask(client.GET("/notifications/mail", {})) });
  const tryIt = useChange((address: string) => ask(client.POST("/notifications/mail/try", { body: { to_address: address } })), [], () => "The server has taken a mail.");
  const none = useChange(() => ask(client.PUT("/notifications/mail", { body: { server: "", mail_security: "starttls", sender: "" } })), ["mail-settings"], () => "No mail is sent any more.");
  return (
    <Shown query={mail}>
      {(m) => (
        <Card
          title="Mail"
          extra={
            <Space>
              {m.server && (
                <Popconfirm title="Send no mail any more?" okText="No mail" onConfirm={() => none.mutate(undefined)}>
                  <Button size="small">No mail</Button>
                </Popconfirm>
              )}
              <Button size="small" onClick={() => setSetting(true)}>
                {m.server ? "Change…" : "Say which server takes mail…"}
              </Button>
            </Space>
          }
        >
          {m.server ? (
            <Descriptions
              size="small"
              column={{ xs: 1, md: 2 }}
              items={[
                { key: "server", label: "Server", children: m.server },
                { key: "line", label: "Line", children: lines[m.mail_security] },
                { key: "account", label: "Account", children: m.account || "none" },
                { key: "sender", label: "Mail comes from", children: m.sender },
                {
                  key: "try",
                  label: "Try",
                  children: (
                    <Space.Compact>
                      <Input size="small" aria-label="Address to try" placeholder="ines@fennholt.example" value={to} onChange={(e) => setTo(e.target.value)} style={{ width: 220 }} />
                      <Button size="small" disabled={!to} loading={tryIt.isPending} onClick={() => tryIt.mutate(to)}>
                        Send one
                      </Button>
                    </Space.Compact>
                  ),
                },
              ]}
            />
          ) : (
            <Typography.Text type="secondary">No server takes mail: rules that tell people by mail wait until there is one.</Typography.Text>
          )}
          {setting && <MailDialog before={m} close={() => setSetting(false)} />}
        </Card>
      )}
    </Shown>
  );
}

function MailDialog({ before, close }: { before: MailSettings; close: () => void }) {
  const [form] = Form.useForm<NewMailSettings>();
  const set = useChange((m: NewMailSettings) => ask(client.PUT("/notifications/mail", { body: { ...m, certificate: m.certificate || undefined } })), ["mail-settings"], (m) => `${m.server} takes mail; it was asked.`);
  const submit = () => form.validateFields().then((m) => set.mutate(m, { onSuccess: close }));
  return (
    <Modal open style={{ top: 24 }} title="Which server takes mail" okText="Try and set" onCancel={close} confirmLoading={set.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={before}>
        <Form.Item name="server" label="Server" extra="HOST, or HOST:PORT" rules={[{ required: true, message: "Which?" }]}>
          <Input placeholder="mail.fennholt.example:587" />
        </Form.Item>
        <Form.Item name="mail_security" label="How the line is kept from being read">
          <Select options={Object.entries(lines).map(([value, label]) => ({ value, label }))} />
        </Form.Item>
        <Form.Item name="account" label="Account" extra="To sign in with; leave it empty if the server asks for none">
          <Input autoComplete="off" />
        </Form.Item>
        <Form.Item name="password" label="Its password" extra={before.account ? "Sealed in the records, and never shown. Empty: it stays, for this account at this server." : "Sealed in the records, and never shown"}>
          <Password autoComplete="new-password" />
        </Form.Item>
        <Form.Item name="sender" label="Mail comes from" rules={[{ required: true, message: "From whom?" }]}>
          <Input placeholder="jugate@fennholt.example" />
        </Form.Item>
        <Form.Item name="certificate" label="Certificate of its authority" extra="In PEM; leave it empty if the service's machine trusts it already">
          <Input.TextArea rows={2} />
        </Form.Item>
      </Form>
    </Modal>
  );
}
