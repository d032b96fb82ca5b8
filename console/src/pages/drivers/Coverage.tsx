import { useQuery } from "@tanstack/react-query";
import { Alert, Card, Flex, Select, Spin, Typography } from "antd";
import { useState } from "react";
import { ask, client } from "../../api/client";
import { GroupSelect } from "../../parts/GroupSelect";
import { Failure } from "../../parts/Shown";
import { Matrix } from "./Matrix";

/** Models against classes of devices, for one build and one image. */
export function Coverage() {
  const [image, setImage] = useState<string>();
  const [build, setBuild] = useState<number>();
  const [group, setGroup] = useState<string>();
  const images = useQuery({ queryKey: ["images", "all"], queryFn: () => ask(client.GET("/images", { params: { query: { limit: 1000 } } })) });
  const builds = useQuery({ queryKey: ["builds", "all"], queryFn: () => ask(client.GET("/builds", { params: { query: { limit: 1000 } } })) });
  const first = images.data?.items[0];
  const chosen = image ?? (first && `${first.image}@${first.version}`);
  const cover = useQuery({
    queryKey: ["coverage", chosen, build, group],
    enabled: !!images.data,
    queryFn: () => ask(client.GET("/coverage", { params: { query: { image: chosen, build, group } } })),
  });
  return (
    <Flex vertical gap={16}>
      <Flex gap={8} align="center" wrap>
        Image
        <Select
          aria-label="Image"
          value={chosen}
          onChange={setImage}
          placeholder="none"
          style={{ width: 220 }}
          options={images.data?.items.map((v) => ({ value: `${v.image}@${v.version}`, label: `${v.image}@${v.version}` }))}
        />
        Boot environment
        <Select
          allowClear
          aria-label="Boot environment"
          value={build}
          onChange={setBuild}
          placeholder="the one that is offered"
          style={{ width: 220 }}
          options={builds.data?.items.map((b) => ({ value: b.number, label: `build ${b.number}${b.offered ? ", offered" : ""}` }))}
        />
        Group
        <GroupSelect allowClear value={group} onChange={setGroup} placeholder="all workstations" style={{ width: 220 }} />
        <Typography.Text type="secondary">{cover.data && [cover.data.build ? `build ${cover.data.build}` : "no build is offered", cover.data.system].join(" · ")}</Typography.Text>
      </Flex>
      {[images, builds, cover].map((q, i) => q.error && <Failure key={i} error={q.error} />)}
      {cover.data ? (
        <Card styles={{ body: { padding: 0 } }}>
          <Matrix coverage={cover.data} />
        </Card>
      ) : (
        !cover.error && <Spin />
      )}
      {cover.data && cover.data.unknown_workstations.length > 0 && (
        <Alert type="info" showIcon title={`Nobody has seen the devices of ${cover.data.unknown_workstations.join(", ")}: have them boot into the boot environment once.`} />
      )}
    </Flex>
  );
}
