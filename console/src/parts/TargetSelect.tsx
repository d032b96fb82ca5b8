import { Form } from "antd";
import { ask, client } from "../api/client";
import { findGroups } from "./GroupSelect";
import { SearchSelect } from "./SearchSelect";

async function findTargets(search?: string) {
  const [groups, workstations] = await Promise.all([
    findGroups(search),
    ask(client.GET("/workstations", { params: { query: { state: ["expected", "admitted"], sort: "name", search, limit: 50 } } })),
  ]);
  return [
    { label: "Groups", options: groups },
    { label: "Workstations", options: workstations.items.map((w) => ({ value: w.name, label: w.name })) },
  ];
}

/** The field `to` of a form: groups and workstations. */
export function TargetSelect() {
  return (
    <Form.Item name="to" label="To" rules={[{ required: true, message: "Which groups or workstations?" }]}>
      <SearchSelect name="targets" find={findTargets} mode="multiple" placeholder="Groups and workstations" />
    </Form.Item>
  );
}
