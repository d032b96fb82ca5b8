import { Flex, Input } from "antd";
import { Link } from "react-router";
import { useParam } from "../../api/useParam";
import { GroupSelect } from "../../parts/GroupSelect";
import { PageTitle } from "../../parts/PageTitle";
import { ImportButton } from "./ImportButton";
import { Newcomers } from "./Newcomers";
import { Roster } from "./Roster";

export function Workstations() {
  const [search = "", setSearch] = useParam("search");
  const [group, setGroup] = useParam("group");
  return (
    <>
      <PageTitle title="Workstations">
        <Flex gap={8} align="center">
          <Link to="/models">Models</Link>
          <Link to={group ? `/rooms/${group}` : "/rooms"}>{group ? "As a room" : "Rooms"}</Link>
          <ImportButton />
        </Flex>
      </PageTitle>
      <Flex vertical gap={16}>
        <Newcomers />
        <Roster
          key={`${group}/${search}`}
          group={group}
          search={search}
          extra={
            <>
              <GroupSelect allowClear placeholder="All groups" value={group} onChange={setGroup} style={{ width: 200 }} />
              <Input.Search allowClear placeholder="Text, or = and a condition" defaultValue={search} onSearch={setSearch} style={{ width: 280 }} />
            </>
          }
        />
      </Flex>
    </>
  );
}
