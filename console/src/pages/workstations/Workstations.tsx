import { Card, Flex, Input, Select } from "antd";
import { useState } from "react";
import { PageTitle } from "../../parts/PageTitle";
import { Newcomers } from "./Newcomers";
import { Roster } from "./Roster";
import { useGroups } from "./useGroups";

export function Workstations() {
  const [search, setSearch] = useState("");
  const [group, setGroup] = useState<string>();
  const groups = useGroups();
  return (
    <>
      <PageTitle title="Workstations" />
      <Flex vertical gap={16}>
        <Newcomers />
        <Card
          title="Roster"
          extra={
            <Flex gap={8}>
              <Select allowClear placeholder="All groups" value={group} onChange={setGroup} options={groups} style={{ width: 200 }} />
              <Input.Search allowClear placeholder="Name, address, model, serial" onSearch={setSearch} style={{ width: 280 }} />
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
