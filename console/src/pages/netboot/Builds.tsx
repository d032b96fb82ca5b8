import { Button, Flex, Popconfirm, Tag } from "antd";
import { useState } from "react";
import { ask, client, type Build } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { size, when } from "../../format";
import { ListTable } from "../../parts/ListTable";
import { MediaDialog } from "./MediaDialog";

/** The builds of the boot environment; one is offered. */
export function Builds() {
  const list = useList<Build>(["builds"], ({ offset, limit }, form) => ask(client.GET("/builds", { params: { query: { offset, limit } }, ...form })), { limit: 10, within: "build-" });
  const offer = useChange(
    (number: number) => ask(client.POST("/builds/{build}/offer", { params: { path: { build: number } } })),
    ["builds", "netboot"],
    () => "Workstations boot this build from now on.",
  );
  const [media, setMedia] = useState<Build>();
  return (
    <>
    <ListTable<Build>
      name="builds"
      list={list}
      rowKey="number"
      empty="None yet; make one with jugate environment build"
      expandable={{
        expandedRowRender: (b) => b.problems.map((p) => <div key={p}>{p}</div>),
        rowExpandable: (b) => b.problems.length > 0,
      }}
      columns={[
        { title: "Build", align: "right", dataIndex: "number", render: (n: number) => <b>{n}</b> },
        { title: "", render: (_, b) => b.offered && <Tag color="green">offered</Tag> },
        { title: "Made", render: (_, b) => when(b.created) },
        { title: "Kernel", dataIndex: "kernel" },
        { title: "Modules", align: "right", dataIndex: "module_count" },
        { title: "A workstation loads", align: "right", render: (_, b) => size(b.bytes) },
        { title: "Lacks", align: "right", render: (_, b) => b.problems.length || "" },
        { title: "Note", dataIndex: "note" },
        {
          title: "",
          align: "right",
          render: (_, b) => (
            <Flex gap={8} justify="end">
              <Button size="small" onClick={() => setMedia(b)}>
                Media…
              </Button>
              {!b.offered && (
                <Popconfirm title={`Have all workstations boot build ${b.number} from now on?`} onConfirm={() => offer.mutate(b.number)}>
                  <Button size="small">Offer</Button>
                </Popconfirm>
              )}
            </Flex>
          ),
        },
      ]}
    />
    {media && <MediaDialog build={media} close={() => setMedia(undefined)} />}
    </>
  );
}
