import type { SelectProps } from "antd";
import { ask, client } from "../api/client";
import { SearchSelect } from "./SearchSelect";

/** Groups as options of a select. */
export async function findGroups(search?: string) {
  const groups = await ask(client.GET("/groups", { params: { query: { search, limit: 50 } } }));
  return groups.items.map((g) => ({ value: g.name, label: `${g.name} (${g.workstation_count})` }));
}

/** Chooses a group, or several. */
export function GroupSelect(props: SelectProps) {
  return <SearchSelect name="groups" find={findGroups} {...props} />;
}
