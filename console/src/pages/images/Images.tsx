import { Button, Card, Flex, Input } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { ask, client, type Version } from "../../api/client";
import { useList } from "../../api/useList";
import { size, when } from "../../format";
import { ListTable } from "../../parts/ListTable";
import { PageTitle } from "../../parts/PageTitle";
import { DeliverDialog } from "../../parts/DeliverDialog";
import { Versions } from "./Versions";

export function Images() {
  const [delivering, setDelivering] = useState<Version>();
  const list = useList<Version>(["images"], (query, form) => ask(client.GET("/images", { params: { query }, ...form })));
  return (
    <>
      <PageTitle title="Images">
        <Input.Search allowClear placeholder="Name or note" defaultValue={list.searched} onSearch={list.search} style={{ width: 280 }} />
      </PageTitle>
      <Card styles={{ body: { padding: 0 } }}>
        <ListTable<Version>
          name="images"
          list={list}
          key={list.isPending ? "loading" : "here"} // rows that come later would not be expanded
          rowKey="image"
          empty="No image yet. Admit the prepared workstation, then capture it from the roster."
          expandable={{ expandedRowRender: (v) => <Versions image={v.image} deliver={setDelivering} />, defaultExpandAllRows: true }}
          columns={[
            { title: "Image", key: "image", dataIndex: "image", sorter: true, render: (name: string) => (
                <Link to={`/images/${name}`}>
                  <b>{name}</b>
                </Link>
              ) },
            { title: "Newest", render: (_, v) => `@${v.version}` },
            { title: "Captured", key: "captured", sorter: true, render: (_, v) => when(v.captured) },
            { title: "From", dataIndex: "workstation" },
            { title: "In use", align: "right", render: (_, v) => size(v.used_bytes) },
            { title: "Disk", align: "right", render: (_, v) => size(v.disk_bytes) },
            {
              title: "",
              align: "right",
              render: (_, v) => (
                <Flex justify="end">
                  <Button size="small" type="primary" disabled={v.state !== "in use"} onClick={() => setDelivering(v)}>
                    Deliver…
                  </Button>
                </Flex>
              ),
            },
          ]}
        />
      </Card>
      {delivering && <DeliverDialog version={delivering} close={() => setDelivering(undefined)} />}
    </>
  );
}
