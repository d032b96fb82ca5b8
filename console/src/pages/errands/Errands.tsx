import { Button, Card, Flex, Input, Popconfirm, Segmented, Switch } from "antd";
import { Link } from "react-router";
import { ask, client, type Errand } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { useOneOf } from "../../api/useParam";
import { size, when } from "../../format";
import { CommandOutput } from "../../parts/CommandOutput";
import { explained } from "../../parts/Explain";
import { ListTable } from "../../parts/ListTable";
import { Outcome } from "../../parts/Outcome";
import { PageTitle } from "../../parts/PageTitle";
import { Checks } from "./Checks";

const views = ["Errands", "Checks"] as const;

/** What workstations do, what waits for them, and what they have done. */
export function Errands() {
  const [ended, setEnded] = useOneOf("of", ["open", "all"]);
  const all = ended === "all";
  const list = useList<Errand>(["errands", all], (query, form) => ask(client.GET("/errands", { params: { query: { ...query, open: !all || undefined } }, ...form })));
  const stop = useChange(
    (e: Errand) => ask(client.POST("/errands/{errand}/stop", { params: { path: { errand: e.id } } })),
    ["errands"],
    (e) => `Errand ${e.id} of ${e.workstation} is stopped.`,
  );
  const [view, setView] = useOneOf("view", views);
  const choice = <Segmented options={[...views]} value={view} onChange={setView} />;
  if (view === "Checks")
    return (
      <>
        <PageTitle title="Errands">{choice}</PageTitle>
        <Checks />
      </>
    );
  return (
    <>
      <PageTitle title="Errands">
        <Flex gap={16} align="center">
          {choice}
          <Flex gap={8} align="center">
            <Switch size="small" checked={all} onChange={(on) => setEnded(on ? "all" : "open")} id="all" />
            <label htmlFor="all">those that have ended, too</label>
          </Flex>
          <Input.Search allowClear placeholder="Workstation or image" defaultValue={list.searched} onSearch={list.search} style={{ width: 240 }} />
        </Flex>
      </PageTitle>
      <Card styles={{ body: { padding: 0 } }}>
        <ListTable<Errand>
          name="errands"
          list={list}
          rowKey="id"
          empty={all ? "No workstation was asked to do anything yet." : "No workstation has anything to do."}
          columns={[
            { title: "Errand", render: (_, e) => `No. ${e.id}` },
            { title: "Workstation", key: "workstation", sorter: true, render: (_, e) => <b>{e.workstation}</b> },
            { title: "Kind", key: "kind", sorter: true, dataIndex: "kind" },
            { title: "Image", render: (_, e) => (e.version ? `${e.image}@${e.version}` : e.image) },
            { title: explained("State", { kind: "state of an errand" }), key: "state", sorter: true, render: (_, e) => <Outcome state={e.state} /> },
            { title: "Done", align: "right", render: (_, e) => (e.total && !e.ended ? `${size(e.done)} of ${size(e.total)}` : "") },
            { title: "Ordered", key: "created", sorter: true, render: (_, e) => when(e.created) },
            { title: "Result", render: (_, e) => (e.command_run ? <CommandOutput errand={e} label={e.command_run.command} /> : null) || e.error || (e.result ?? []).join("; ") || (e.not_before && !e.ended ? `not before ${when(e.not_before)}` : "") },
            { title: "", align: "right", render: (_, e) => <Action errand={e} stop={() => stop.mutate(e)} /> },
          ]}
        />
      </Card>
    </>
  );
}

/** What is part of a delivery is stopped with that. */
function Action({ errand: e, stop }: { errand: Errand; stop: () => void }) {
  if (e.delivery) return <Link to={`/deliveries/${e.delivery}`}>{`delivery ${e.delivery}`}</Link>;
  if (e.ended) return null;
  return (
    <Popconfirm title={`Stop errand ${e.id} of ${e.workstation}?`} description="What was stored of a capture stays for the next try." okText="Stop" onConfirm={stop}>
      <Button size="small" danger>
        Stop
      </Button>
    </Popconfirm>
  );
}
