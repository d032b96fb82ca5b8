import { Form } from "antd";
import { findWorkstations } from "./findWorkstations";
import { findGroups } from "./GroupSelect";
import { SearchSelect } from "./SearchSelect";

async function findTargets(search?: string) {
  const [groups, workstations] = await Promise.all([findGroups(search), findWorkstations(search)]);
  return [
    { label: "Groups", options: groups },
    { label: "Workstations", options: workstations },
  ];
}

/** The field `to` of a form: groups and workstations. */
export function TargetSelect() {
  return (
    <Form.Item name="to" label="To" rules={[{ required: true, message: "Which groups or workstations?" }]}>
      <SearchSelect name="targets" find={findTargets} mode="multiple" maxTagCount={20} placeholder="Groups and workstations" />
    </Form.Item>
  );
}
