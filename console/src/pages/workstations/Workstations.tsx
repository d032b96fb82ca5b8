import { Card, Flex, Input } from "antd";
import { useState } from "react";
import { GroupSelect } from "../../parts/GroupSelect";
import { PageTitle } from "../../parts/PageTitle";
import { ImportButton } from "./ImportButton";
import { Newcomers } from "./Newcomers";
import { Roster } from "./Roster";

export function Workstations() {
  const [search, setSearch] = useState("");
  const [group, setGroup] = useState<string>();
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
              <GroupSelect allowClear placeholder="All groups" value={group} onChange={setGroup} style={{ width: 200 }} />
              <Input.Search allowClear placeholder="Text, or = and a condition" onSearch={setSearch} style={{ width: 280 }} />
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
