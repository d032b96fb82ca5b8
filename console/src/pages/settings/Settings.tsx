import { useQuery } from "@tanstack/react-query";
import { Button, Card, Popconfirm, Space, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Session, type Setting } from "../../api/client";
import { useChange } from "../../api/useChange";
import { when } from "../../format";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { SettingDialog } from "./SettingDialog";

/** What is in force in the service, and what of it is changed while it runs. */
export function Settings({ session }: { session: Session }) {
  const all = useQuery({ queryKey: ["settings"], queryFn: () => ask(client.GET("/settings", {})) });
  const may = session.rights.includes("administer");
  return (
    <>
      <PageTitle title="Settings" />
      <Shown query={all}>
        {({ items }) => (
          <Space orientation="vertical" size={16} style={{ display: "flex" }}>
            <Live settings={items.filter((s) => s.live)} may={may} />
            <Fixed settings={items.filter((s) => !s.live)} />
          </Space>
        )}
      </Shown>
    </>
  );
}

const valueOf = (s: Setting) => (s.is.length ? s.is.map((v) => <div key={v}>{v}</div>) : <Typography.Text type="secondary">none</Typography.Text>);

function Live({ settings, may }: { settings: Setting[]; may: boolean }) {
  const [editing, setEditing] = useState<Setting>();
  const unset = useChange((s: Setting) => ask(client.DELETE("/settings/{setting}", { params: { path: { setting: s.setting } } })), ["settings"], (s) => `${s.setting} is ${s.is.join("; ") || "empty"} again, as the service was started.`);
  return (
    <Card title="Changed while the service runs" styles={{ body: { padding: 0 } }}>
      <Table<Setting>
        size="small"
        rowKey="setting"
        dataSource={settings}
        pagination={false}
        scroll={{ x: "max-content" }}
        columns={[
          { title: "Setting", render: (_, s) => <b>{s.setting}</b> },
          { title: "Is", render: (_, s) => valueOf(s) },
          { title: "What it says", render: (_, s) => <div style={{ maxWidth: 380 }}>{s.what}</div> },
          {
            title: "From",
            render: (_, s) =>
              s.by ? (
                <>
                  <Tag color="green">set here</Tag> {s.by}, {when(s.at)}
                </>
              ) : (
                s.from
              ),
          },
          ...(may
            ? [
                {
                  title: "",
                  align: "right" as const,
                  render: (_: unknown, s: Setting) => (
                    <Space>
                      {s.by && (
                        <Popconfirm title={`Back to ${s.instead?.join("; ") || "none"}, as the service was started?`} okText="Back" onConfirm={() => unset.mutate(s)}>
                          <Button size="small">As it was started</Button>
                        </Popconfirm>
                      )}
                      <Button size="small" aria-label={`Change… ${s.setting}`} onClick={() => setEditing(s)}>
                        Change…
                      </Button>
                    </Space>
                  ),
                },
              ]
            : []),
        ]}
      />
      {editing && <SettingDialog before={editing} close={() => setEditing(undefined)} />}
    </Card>
  );
}

function Fixed({ settings }: { settings: Setting[] }) {
  return (
    <Card title="Taken when the service is started" extra="They are set in /etc/jugate/jugate.yaml, or with jugate serve" styles={{ body: { padding: 0 } }}>
      <Table<Setting>
        size="small"
        rowKey="setting"
        dataSource={settings}
        pagination={false}
        scroll={{ x: "max-content" }}
        locale={{ emptyText: "The service was started by a program that tells none." }}
        columns={[
          { title: "Setting", render: (_, s) => <b>{s.setting}</b> },
          { title: "Is", render: (_, s) => valueOf(s) },
          { title: "What it says", render: (_, s) => <div style={{ maxWidth: 520 }}>{s.what}</div> },
          { title: "From", render: (_, s) => s.from },
        ]}
      />
    </Card>
  );
}
