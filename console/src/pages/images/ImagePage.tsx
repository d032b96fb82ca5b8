import { useQuery } from "@tanstack/react-query";
import { Button, Card, Col, Empty, Flex, Row, Select, Table, Tag, Timeline, Typography } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { ask, client, type AreaDifference, type Version } from "../../api/client";
import { useOneOf } from "../../api/useParam";
import { ago, size, when, whole } from "../../format";
import { DeliverDialog } from "../../parts/DeliverDialog";
import { inLine } from "../../parts/answerValue";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { FileChanges } from "./FileChanges";
import { Files } from "./Files";
import { Findings } from "./Findings";
import { ref } from "./ref";

/** How many workstations are looked through for who has which version. */
const most = 1000;

/** Everything that is known of one image: its versions in time, what changed between two, who has which, and what is set for it. */
export function ImagePage() {
  const { image = "" } = useParams();
  const query = useQuery({ queryKey: ["versions", image], queryFn: () => ask(client.GET("/images/{image}/versions", { params: { path: { image } } })) });
  return <Shown query={query}>{({ items }) => (items.length > 0 ? <Whole image={image} versions={items} /> : <Empty description={`No image is called ${image}.`} />)}</Shown>;
}

function Whole({ image, versions }: { image: string; versions: Version[] }) {
  const [delivering, setDelivering] = useState<Version>();
  const newest = versions.find((v) => v.state === "in use");
  return (
    <>
      <PageTitle title={image}>
        <Link to={`/receipts?search=${encodeURIComponent(image)}`}>Its receipts</Link>
        <Link to={`/images?search=${encodeURIComponent(image)}`}>As a list</Link>
        <Button type="primary" disabled={!newest} onClick={() => setDelivering(newest)}>
          Deliver…
        </Button>
      </PageTitle>
      <Row gutter={[16, 16]}>
        <Col xs={24} xl={12}>
          <Flex vertical gap={16}>
            <Card title="Versions">
              <InTime versions={versions} />
            </Card>
            <Card title="What was found on its disk">
              <Found versions={versions} />
            </Card>
            <Card title="Who has which">
              <Holders image={image} versions={versions} />
            </Card>
            <Files versions={versions} />
          </Flex>
        </Col>
        <Col xs={24} xl={12}>
          <Flex vertical gap={16}>
            {versions.length > 1 && <Changed versions={versions} />}
            <Card title="Answers of this image" extra={<Link to="/answers">Answers</Link>}>
              <Answers image={image} />
            </Card>
            <Card title="Who may receive it">
              <Recipients image={image} />
            </Card>
            <Card title="Where it is" extra={<Link to="/sites">Sites</Link>}>
              <Places image={image} versions={versions} />
            </Card>
          </Flex>
        </Col>
      </Row>
      {delivering && <DeliverDialog version={delivering} close={() => setDelivering(undefined)} />}
    </>
  );
}

/** The versions, the newest first. */
function InTime({ versions }: { versions: Version[] }) {
  return (
    <Timeline
      items={versions.map((v) => ({
        key: v.version,
        color: v.state === "in use" ? "green" : "gray",
        content: (
          <>
            <Flex gap={8} wrap align="center">
              <b>@{v.version}</b>
              <Typography.Text type="secondary">{`${when(v.captured)}, ${ago(v.captured)}`}</Typography.Text>
              {v.state !== "in use" && <Tag>{v.state}</Tag>}
            </Flex>
            {v.note && <div>{v.note}</div>}
            <Typography.Text type="secondary">{`from ${v.workstation}; ${size(v.used_bytes)} in use, ${v.new_slabs} of ${v.slabs} slabs were new, stored in ${size(v.stored_bytes)}`}</Typography.Text>
          </>
        ),
      }))}
    />
  );
}

/** What the survey of the newest version's disk has found; that of the others is in the list of images. */
function Found({ versions }: { versions: Version[] }) {
  const name = ref(versions[0]!);
  const query = useQuery({ queryKey: ["versions", "one", name], queryFn: () => ask(client.GET("/versions/{version}", { params: { path: { version: name } } })) });
  return <Shown query={query}>{(v) => (v.findings?.length || v.despite || v.unreadable_bytes ? <Findings version={v} /> : <Typography.Text type="secondary">{`Nothing spoke against the disk of ${name}.`}</Typography.Text>)}</Shown>;
}

/** What differs between two versions, as far as their slabs tell. */
function Changed({ versions }: { versions: Version[] }) {
  const names = versions.map(ref) as [string, ...string[]];
  const [later, setLater] = useOneOf("of", names);
  const [earlier, setEarlier] = useOneOf("than", [names[1], names[0], ...names.slice(2)]);
  const query = useQuery({
    queryKey: ["versions", "compared", earlier, later],
    queryFn: () => ask(client.GET("/versions/{version}/diff/{other_version}", { params: { path: { version: earlier, other_version: later } } })),
    enabled: earlier !== later,
  });
  const options = names.map((value) => ({ value, label: value }));
  return (
    <Card
      title="What changed"
      extra={
        <Flex gap={8} align="center">
          <Select size="small" aria-label="From" value={earlier} onChange={setEarlier} options={options} style={{ minWidth: 150 }} />
          to
          <Select size="small" aria-label="To" value={later} onChange={setLater} options={options} style={{ minWidth: 150 }} />
        </Flex>
      }
    >
      {earlier === later ? (
        <Typography.Text type="secondary">That is one version.</Typography.Text>
      ) : (
        <Shown query={query}>
          {(c) => (
            <>
              <Typography.Paragraph>{c.different ? `${c.same_table ? "The partition tables are the same" : "The partition tables differ"}; ${later} brings ${size(c.new)} that ${earlier} has nowhere.` : "Nothing: they hold the same."}</Typography.Paragraph>
              <Table<AreaDifference>
                size="small"
                pagination={false}
                rowKey="partition"
                dataSource={c.areas}
                expandable={{ rowExpandable: (a) => a.partition > 0 && a.kind_a !== "" && a.kind_b !== "" && a.changed + a.only_a + a.only_b > 0, expandedRowRender: (a) => <FileChanges earlier={earlier} later={later} partition={a.partition} /> }}
                columns={[
                  { title: "Partition", render: (_, a) => a.partition || "what is before and between" },
                  { title: "The same", align: "right", render: (_, a) => size(a.same) },
                  { title: "Changed", align: "right", render: (_, a) => size(a.changed) },
                  { title: "No more", align: "right", render: (_, a) => size(a.only_a) },
                  { title: "New", align: "right", render: (_, a) => size(a.only_b) },
                ]}
              />
            </>
          )}
        </Shown>
      )}
    </Card>
  );
}

/** Which workstations have which version, by their receipts. */
function Holders({ image, versions }: { image: string; versions: Version[] }) {
  const query = useQuery({
    queryKey: ["workstations", "holding", image],
    queryFn: () => ask(client.GET("/workstations", { params: { query: { where: `image == ${JSON.stringify(image)}`, sort: "name", limit: most, state: ["admitted"] } } })),
  });
  return (
    <Shown query={query}>
      {({ items, total }) => (
        <>
          {total === 0 && <Typography.Text type="secondary">Nobody has it now.</Typography.Text>}
          {total > items.length && <Typography.Paragraph type="warning">{`${whole(total)} have it; these are the first ${whole(most)}.`}</Typography.Paragraph>}
          {versions.map((v) => {
            const have = items.filter((w) => w.image === ref(v));
            if (have.length === 0) return null;
            return (
              <Typography.Paragraph key={v.version} ellipsis={{ rows: 3, expandable: true }}>
                <b>{`@${v.version}: ${have.length}`}</b>{" "}
                {have.map((w, i) => (
                  <span key={w.id}>
                    {i > 0 && ", "}
                    <Link to={`/workstations/${w.name}`}>{w.name}</Link>
                    {w.unfinished && " (unfinished)"}
                  </span>
                ))}
              </Typography.Paragraph>
            );
          })}
        </>
      )}
    </Shown>
  );
}

function Answers({ image }: { image: string }) {
  const query = useQuery({ queryKey: ["answers", "of image", image], queryFn: () => ask(client.GET("/answers", { params: { query: { of: `image:${image}` } } })) });
  return <Shown query={query}>{({ items }) => (items.length === 0 ? <Typography.Text type="secondary">None: what is set elsewhere counts.</Typography.Text> : items.map((a) => <div key={a.key}>{`${a.key}: ${a.secret ? "a secret" : inLine(a.value)}`}</div>))}</Shown>;
}

function Recipients({ image }: { image: string }) {
  const query = useQuery({ queryKey: ["images", "recipients", image], queryFn: () => ask(client.GET("/images/{image}/recipients", { params: { path: { image } } })) });
  return (
    <Shown query={query}>
      {(r) => {
        const all = [...r.groups.map((g) => `the group ${g}`), ...r.models, ...r.hardware_addresses];
        return all.length === 0 ? <Typography.Text type="secondary">Everybody; it is in no boot menu.</Typography.Text> : all.join(", ");
      }}
    </Shown>
  );
}

/** In which stores its versions lie, and which outposts hold them ahead of time. */
function Places({ image, versions }: { image: string; versions: Version[] }) {
  const query = useQuery({ queryKey: ["outposts"], queryFn: () => ask(client.GET("/outposts", {})) });
  const stores = new Map<string, string[]>();
  for (const v of versions) stores.set(v.store, [...(stores.get(v.store) ?? []), `@${v.version}`]);
  return (
    <>
      {[...stores].map(([store, all]) => (
        <div key={store}>{`${store === "folder" ? "the data folder" : `the store ${store}`}: ${all.join(", ")}`}</div>
      ))}
      <Shown query={query}>
        {({ items }) =>
          items.map((o) => {
            const here = (o.placed ?? []).filter((p) => p.image === image);
            return here.length > 0 && <div key={o.outpost}>{`outpost ${o.outpost}: ${here.map((p) => `@${p.version}`).join(", ")}`}</div>;
          })
        }
      </Shown>
    </>
  );
}
