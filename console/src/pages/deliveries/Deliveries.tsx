import { useQuery } from "@tanstack/react-query";
import { Card, Flex } from "antd";
import { Link } from "react-router";
import { ask, client, type Delivery } from "../../api/client";
import { useList } from "../../api/useList";
import { size, when } from "../../format";
import { ListTable } from "../../parts/ListTable";
import { explained } from "../../parts/Explain";
import { DeliveryState } from "../../parts/DeliveryState";
import { PageTitle } from "../../parts/PageTitle";
import { Failure } from "../../parts/Shown";
import { DeliveryCard } from "./DeliveryCard";

/** How many running deliveries are shown with their workstations; the service tells of so many. */
const cards = 5;

export function Deliveries() {
  const open = useQuery({
    queryKey: ["deliveries", "open"],
    queryFn: () => ask(client.GET("/deliveries", { params: { query: { open: true } } })),
  });
  const running = open.data?.items.filter((d) => !d.ended) ?? [];
  const list = useList<Delivery>(["deliveries", "all"], (query, form) => ask(client.GET("/deliveries", { params: { query }, ...form })));
  return (
    <>
      <PageTitle title="Deliveries" />
      <Flex vertical gap={16}>
        {open.isError && <Failure error={open.error} />}
        {running.slice(0, cards).map((d) => (
          <DeliveryCard key={d.id} id={d.id} />
        ))}
        <Card title="All deliveries" styles={{ body: { padding: 0 } }}>
          <ListTable<Delivery>
            name="deliveries"
            list={list}
            rowKey="id"
            empty="No delivery yet. Order one from an image."
            columns={[
              { title: "Delivery", render: (_, d) => <Link to={`/deliveries/${d.id}`}>{`No. ${d.id}`}</Link> },
              { title: "Image", key: "image", sorter: true, render: (_, d) => <b>{`${d.image}@${d.version}`}</b> },
              { title: "To", render: (_, d) => d.targets.join(", ") },
              { title: explained("State", { kind: "state of a delivery" }), key: "state", sorter: true, render: (_, d) => <DeliveryState delivery={d} /> },
              { title: "Ordered", key: "created", sorter: true, render: (_, d) => when(d.created) },
              { title: "Ended", render: (_, d) => when(d.ended) },
              { title: "On the wire", align: "right", render: (_, d) => size(d.wire_bytes) },
              { title: "Reason", render: (_, d) => d.reason || d.warning },
            ]}
          />
        </Card>
      </Flex>
    </>
  );
}
