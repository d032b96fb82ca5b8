import { Card, Flex, Input } from "antd";
import { useSearchParams } from "react-router";
import { GroupSelect } from "../../parts/GroupSelect";
import { PageTitle } from "../../parts/PageTitle";
import { ImportButton } from "./ImportButton";
import { Newcomers } from "./Newcomers";
import { Roster } from "./Roster";

export function Workstations() {
  const [params, setParams] = useSearchParams();
  const search = params.get("search") ?? "";
  const group = params.get("group") ?? undefined;
  const set = (name: string, to?: string) =>
    setParams((before) => {
      if (to) before.set(name, to);
      else before.delete(name);
      return before;
    });
  return (
    <>
      <PageTitle title="Workstations">
        <Flex gap={8}>
          <ImportButton />
        </Flex>
      </PageTitle>
      <Flex vertical gap={16}>
        <Newcomers />
        <Card
          title="Roster"
          extra={
            <Flex gap={8}>
              <GroupSelect allowClear placeholder="All groups" value={group} onChange={(to: string | undefined) => set("group", to)} style={{ width: 200 }} />
              <Input.Search allowClear placeholder="Text, or = and a condition" defaultValue={search} onSearch={(to) => set("search", to)} style={{ width: 280 }} />
            </Flex>
          }
          styles={{ body: { padding: 0 } }}
        >
          <Roster key={`${group}/${search}`} group={group} search={search} />
        </Card>
      </Flex>
    </>
  );
}
