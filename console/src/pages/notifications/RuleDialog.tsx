import { useQuery } from "@tanstack/react-query";
import { Alert, App, Checkbox, Flex, Form, Input, Modal, Radio, Select, Switch, Typography } from "antd";
import { ask, client, type NewNotificationRule, type NotificationRule } from "../../api/client";
import { useChange } from "../../api/useChange";
import { GroupSelect } from "../../parts/GroupSelect";

interface Fields extends NewNotificationRule {
  rule: string;
  by: "mail" | "webhook";
}

/** Says who is told of what. */
export function RuleDialog({ before, close }: { before: Partial<NotificationRule>; close: () => void }) {
  const { modal } = App.useApp();
  const [form] = Form.useForm<Fields>();
  const by = Form.useWatch("by", form) ?? (before.webhook ? "webhook" : "mail");
  const events = useQuery({ queryKey: ["notification-events"], queryFn: () => ask(client.GET("/notifications/events", {})), staleTime: Infinity });
  const set = useChange(
    ({ rule, by: way, mail_to, webhook, certificate, ...rest }: Fields, seen) =>
      ask(
        client.PUT("/notifications/rules/{notification_rule}", {
          params: { path: { notification_rule: rule } },
          body: way === "mail" ? { ...rest, mail_to } : { ...rest, webhook, certificate: certificate || undefined },
          ...seen,
        }),
      ),
    ["notification-rules"],
  );
  const submit = async () => {
    const fields = await form.validateFields();
    set.mutate(fields, {
      onSuccess: (r) => {
        close();
        if (r.webhook_secret) modal.info({ title: `The secret of ${r.rule}`, width: 560, content: <Secret text={r.webhook_secret} /> });
      },
    });
  };
  const kinds = (events.data?.items ?? []).filter((e) => e.event !== "rule.tried");
  return (
    <Modal open style={{ top: 24 }} width={680} title={before.rule ? `Change ${before.rule}` : "Tell somebody"} okText={before.rule ? "Change" : "Add"} onCancel={close} confirmLoading={set.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ by, events: [], ...before }}>
        <Form.Item name="rule" label="Rule" extra="How it is called" rules={[{ required: true, message: "It needs a name." }]}>
          <Input placeholder="failures" disabled={!!before.rule} />
        </Form.Item>
        <Form.Item name="by" label="Told are">
          <Radio.Group
            options={[
              { value: "mail", label: "people, by mail" },
              { value: "webhook", label: "a program, by webhooks" },
            ]}
          />
        </Form.Item>
        {by === "mail" ? (
          <Form.Item name="mail_to" label="Mail addresses" extra="What happens within half a minute is one mail." rules={[{ required: true, message: "Who?" }]}>
            <Select mode="tags" open={false} tokenSeparators={[",", " ", ";"]} suffixIcon={null} placeholder="ines@fennholt.example" aria-label="Mail addresses" />
          </Form.Item>
        ) : (
          <>
            <Form.Item name="webhook" label="Address" extra="It is sent what Standard Webhooks describes, signed with a secret that is told when the rule is added." rules={[{ required: true, message: "Where?" }]}>
              <Input placeholder="https://chat.fennholt.example/hooks/desk" />
            </Form.Item>
            <Form.Item name="certificate" label="Certificate of its authority" extra="In PEM; leave it empty if the service's machine trusts it already, or it is to stay as it is">
              <Input.TextArea rows={2} />
            </Form.Item>
            {before.webhook && (
              <Form.Item name="new_webhook_secret" valuePropName="checked">
                <Checkbox>Sign with another secret from now on</Checkbox>
              </Form.Item>
            )}
          </>
        )}
        <Form.Item name="events" label="Of" rules={[{ type: "array", min: 1, message: "Of what?" }]}>
          <Checkbox.Group>
            <Flex vertical gap={2}>
              {kinds.map((e) => (
                <Checkbox key={e.event} value={e.event}>
                  <Typography.Text code>{e.event}</Typography.Text> {e.means}
                </Checkbox>
              ))}
            </Flex>
          </Checkbox.Group>
        </Form.Item>
        <Form.Item name="groups" label="Workstations of" extra="Nobody chosen: of all. A rule for groups tells nothing of the service's parts, newcomers, versions and runs.">
          <GroupSelect mode="multiple" />
        </Form.Item>
        <Form.Item name="paused" label="Paused" valuePropName="checked" extra="Nothing is sent; what happens waits.">
          <Switch aria-label="Paused" />
        </Form.Item>
      </Form>
    </Modal>
  );
}

function Secret({ text }: { text: string }) {
  return (
    <Flex vertical gap={12}>
      <Alert type="warning" showIcon title="It is told this once. The program that takes the webhooks needs it to tell ours from others." />
      <Typography.Text code copyable>
        {text}
      </Typography.Text>
    </Flex>
  );
}
