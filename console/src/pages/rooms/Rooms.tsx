import { useQuery } from "@tanstack/react-query";
import { Button, Card, Col, Empty, Flex, Popconfirm, Row, Tag, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { ask, client, type Group } from "../../api/client";
import { useChange } from "../../api/useChange";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { AddRoomDialog } from "./AddRoomDialog";
import { ShouldDialog } from "./ShouldDialog";

/** Every group as a room: how many stand in it, what they should have, and who is behind. */
export function Rooms() {
  const [adding, setAdding] = useState(false);
  const query = useQuery({ queryKey: ["groups"], queryFn: () => ask(client.GET("/groups", { params: { query: { limit: 1000 } } })) });
  return (
    <>
      <PageTitle title="Rooms">
        <Link to="/walk">Walk</Link>
        <Button type="primary" onClick={() => setAdding(true)}>
          Add a room…
        </Button>
      </PageTitle>
      <Shown query={query}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty description="No group yet. Add one, or import a table that names some." />
          ) : (
            <Row gutter={[16, 16]}>
              {items.map((g) => (
                <Col key={g.name} xs={24} sm={12} lg={8}>
                  <RoomCard group={g} />
                </Col>
              ))}
            </Row>
          )
        }
      </Shown>
      {adding && <AddRoomDialog close={() => setAdding(false)} />}
    </>
  );
}

function RoomCard({ group: g }: { group: Group }) {
  const [saying, setSaying] = useState(false);
  const remove = useChange(() => ask(client.DELETE("/groups/{group}", { params: { path: { group: g.name } } })), ["groups", "workstations"], () => `${g.name} is removed; its workstations stay.`);
  return (
    <Card size="small" title={<Link to={`/rooms/${g.name}`}>{g.name}</Link>} extra={g.workstation_count === 1 ? "1 workstation" : `${g.workstation_count} workstations`}>
      {g.where && <div>{`whoever fits ${g.where}`}</div>}
      {g.image ? (
        <>
          should have <b>{g.image}</b> {g.behind_count > 0 ? <Tag color="gold">{`${g.behind_count} behind`}</Tag> : <Tag color="green">all have it</Tag>}
        </>
      ) : (
        <Typography.Text type="secondary">Nothing is said of what they should have.</Typography.Text>
      )}
      <Flex gap={8} justify="end" style={{ marginTop: 8 }}>
        <Button size="small" onClick={() => setSaying(true)}>
          Should have…
        </Button>
        <Popconfirm title={`Remove ${g.name}?`} description="Its workstations stay in the roster." okText="Remove" onConfirm={() => remove.mutate(undefined)}>
          <Button size="small">Remove</Button>
        </Popconfirm>
      </Flex>
      {saying && <ShouldDialog group={g.name} image={g.image} close={() => setSaying(false)} />}
    </Card>
  );
}
