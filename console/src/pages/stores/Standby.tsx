import { useQuery } from "@tanstack/react-query";
import { Button, Card, Descriptions, Flex, Popconfirm, Select, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Standby as Copy, type Store } from "../../api/client";
import { useChange } from "../../api/useChange";
import { when } from "../../format";
import { Shown } from "../../parts/Shown";

/** The copy of the service that is kept as it changes, and which machine is the service. */
export function Standby({ stores }: { stores: Store[] }) {
  const [store, setStore] = useState<string>();
  const query = useQuery({ queryKey: ["stores", "standby"], queryFn: () => ask(client.GET("/standby", {})), refetchInterval: 5_000 });
  const use = useChange((to: string) => ask(client.PUT("/standby", { body: { store: to } })), ["stores"]);
  const to = store ?? stores[0]?.store;
  return (
    <Card title="Another machine in its place" extra="A copy of records, files and slabs, as they change">
      <Shown query={query}>
        {(s) =>
          s.store ? (
            <Kept copy={s} end={() => use.mutate("")} ending={use.isPending} />
          ) : (
            <Flex gap={12} align="center" wrap>
              <Typography.Text type="secondary">
                {stores.length === 0 ? "No copy is kept; that needs a store outside the data folder." : "No copy is kept. With one, jugate takeover makes another machine the service in a minute; and the store then says which machine is."}
              </Typography.Text>
              {to && (
                <>
                  <Select aria-label="Store" size="small" style={{ width: 140 }} value={to} onChange={setStore} options={stores.map((s) => ({ value: s.store, label: s.store }))} />
                  <Popconfirm title={`Keep a copy in ${to}? While that does not answer, nothing is served, as another machine may have taken over.`} okText="Keep a copy" onConfirm={() => use.mutate(to)}>
                    <Button size="small" loading={use.isPending}>
                      Keep a copy…
                    </Button>
                  </Popconfirm>
                </>
              )}
            </Flex>
          )
        }
      </Shown>
    </Card>
  );
}

function Kept({ copy: s, end, ending }: { copy: Copy; end: () => void; ending: boolean }) {
  return (
    <Flex vertical gap={12}>
      {s.trouble && <Typography.Text type="danger">{s.trouble}</Typography.Text>}
      <Descriptions
        size="small"
        column={3}
        items={[
          { key: "store", label: "In", children: s.store },
          { key: "machine", label: "The service is", children: s.machine },
          { key: "term", label: "Term", children: s.term },
          { key: "records", label: "Records until", children: s.records_copied ? when(s.records_copied) : "not yet" },
          { key: "files", label: "Files until", children: s.files_copied ? when(s.files_copied) : "not yet" },
          { key: "slabs", label: "Slabs until", children: s.slabs_copied ? when(s.slabs_copied) : "not yet" },
        ]}
      />
      <div>
        <Popconfirm title="Keep no copy any more? No other machine can become the service from it then." okText="End it" onConfirm={end}>
          <Button size="small" loading={ending}>
            End
          </Button>
        </Popconfirm>
      </div>
    </Flex>
  );
}
