import { useQuery } from "@tanstack/react-query";
import { Button, Card, Flex, Table } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { ask, client, type Model } from "../../api/client";
import { useParam } from "../../api/useParam";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { modelPath } from "../../parts/model";
import { Key } from "./Key";
import { ModelDialog } from "./ModelDialog";
import { ModelSheet } from "./ModelSheet";

/** The models of the machines, and what the desk knows of each. */
export function Models() {
  const [name] = useParam("name");
  return name ? <ModelSheet key={name} name={name} /> : <All />;
}

function All() {
  const [adding, setAdding] = useState(false);
  const query = useQuery({ queryKey: ["models"], queryFn: () => ask(client.GET("/models", {})) });
  return (
    <>
      <PageTitle title="Models">
        <Flex gap={8} align="center" className="unprinted">
          <Link to="/workstations">Workstations</Link>
          <Button onClick={() => setAdding(true)}>Add a model…</Button>
          <Button onClick={() => window.print()}>Print</Button>
        </Flex>
      </PageTitle>
      <Card styles={{ body: { padding: 0 } }}>
        <Shown query={query}>
          {({ items }) => (
            <Table<Model>
              size="small"
              rowKey="model"
              dataSource={items}
              pagination={false}
              locale={{ emptyText: "No machine was seen yet." }}
              columns={[
                { title: "Model", render: (_, m) => <Link to={modelPath(m.model)}>{m.model}</Link> },
                { title: "Machines", align: "right", dataIndex: "machine_count" },
                { title: "Boot key", render: (_, m) => <Key text={m.boot_key} /> },
                { title: "Setup key", render: (_, m) => <Key text={m.setup_key} /> },
                { title: "Adapter", dataIndex: "needs_adapter" },
                { title: "Firmware", dataIndex: "wanted_firmware" },
                { title: "Not fit", align: "right", render: (_, m) => (m.unfit_count > 0 ? <Link to={`/errands?view=Checks&verdict=bad&model=${encodeURIComponent(m.model)}`}>{m.unfit_count}</Link> : null) },
              ]}
            />
          )}
        </Shown>
      </Card>
      {adding && <ModelDialog close={() => setAdding(false)} />}
    </>
  );
}
