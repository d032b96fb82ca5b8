import { useQuery } from "@tanstack/react-query";
import { Card, Col, Empty, Row, Tag, Typography } from "antd";
import { Link } from "react-router";
import { ask, client } from "../../api/client";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";

/** Every group as a room: how many stand in it, what they should have, and who is behind. */
export function Rooms() {
  const query = useQuery({ queryKey: ["groups"], queryFn: () => ask(client.GET("/groups", { params: { query: { limit: 1000 } } })) });
  return (
    <>
      <PageTitle title="Rooms" />
      <Shown query={query}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty description="No group yet. Admit newcomers into one, or import a table." />
          ) : (
            <Row gutter={[16, 16]}>
              {items.map((g) => (
                <Col key={g.name} xs={24} sm={12} lg={8} xl={6}>
                  <Card size="small" title={<Link to={`/rooms/${g.name}`}>{g.name}</Link>} extra={g.workstation_count === 1 ? "1 workstation" : `${g.workstation_count} workstations`}>
                    {g.image ? (
                      <>
                        should have <b>{g.image}</b> {g.behind_count > 0 ? <Tag color="gold">{`${g.behind_count} behind`}</Tag> : <Tag color="green">all have it</Tag>}
                      </>
                    ) : (
                      <Typography.Text type="secondary">Nothing is said of what they should have.</Typography.Text>
                    )}
                  </Card>
                </Col>
              ))}
            </Row>
          )
        }
      </Shown>
    </>
  );
}
