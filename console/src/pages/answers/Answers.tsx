import { useQuery } from "@tanstack/react-query";
import { Button, Card, Flex, Popconfirm, Table, Tag } from "antd";
import { useState } from "react";
import { ask, client, type SetAnswer } from "../../api/client";
import { useChange } from "../../api/useChange";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { Counts } from "./Counts";
import { Domains } from "./Domains";
import { Payloads } from "./Payloads";
import { SetDialog } from "./SetDialog";
import { inLine } from "../../parts/answerValue";

/** What delivered systems are to become: what is set where, and what counts for a workstation. */
export function Answers() {
  const [setting, setSetting] = useState<Partial<SetAnswer>>();
  const query = useQuery({ queryKey: ["answers"], queryFn: () => ask(client.GET("/answers", {})) });
  const unset = useChange((a: SetAnswer) => ask(client.PUT("/answers", { body: { of: a.of, values: { [a.key]: null } } })), ["answers"]);
  return (
    <>
      <PageTitle title="Answers">
        <Button type="primary" onClick={() => setSetting({})}>
          Set…
        </Button>
      </PageTitle>
      <Flex vertical gap={16}>
        <Card title="What is set" styles={{ body: { padding: 0 } }}>
          <Shown query={query}>
            {({ items }) => (
              <Table<SetAnswer>
                size="small"
                rowKey={(a) => `${a.of} ${a.key}`}
                dataSource={items}
                pagination={items.length > 15 ? { pageSize: 15, showSizeChanger: false } : false}
                locale={{ emptyText: "Nothing is set, so copies are as the golden machine was." }}
                columns={[
                  { title: "Of", width: 260, render: (_, a) => <Place of={a.of} /> },
                  { title: "Answer", width: 180, render: (_, a) => <b>{a.key}</b> },
                  { title: "Value", ellipsis: true, render: (_, a) => inLine(a.value) },
                  {
                    title: "",
                    align: "right",
                    width: 180,
                    render: (_, a) => (
                      <Flex gap={8} justify="end">
                        <Button size="small" onClick={() => setSetting(a)}>
                          Change…
                        </Button>
                        <Popconfirm title={`Unset ${a.key}?`} okText="Unset" onConfirm={() => unset.mutate(a)}>
                          <Button size="small">Unset</Button>
                        </Popconfirm>
                      </Flex>
                    ),
                  },
                ]}
              />
            )}
          </Shown>
        </Card>
        <Counts />
        <Payloads />
        <Domains />
      </Flex>
      {setting && <SetDialog answer={setting} close={() => setSetting(undefined)} />}
    </>
  );
}

const colors: Record<string, string | undefined> = { workstation: "green", group: "blue", model: "purple", image: "gold" };

function Place({ of }: { of: string }) {
  const [kind, ...name] = of.split(":");
  return (
    <>
      <Tag color={colors[kind]} style={{ marginInlineEnd: 8 }}>
        {kind}
      </Tag>
      {name.join(":")}
    </>
  );
}
