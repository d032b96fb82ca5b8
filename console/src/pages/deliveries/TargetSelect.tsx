import { useQuery } from "@tanstack/react-query";
import { Form, Select } from "antd";
import { ask, client } from "../../api/client";
import { useGroups } from "../workstations/useGroups";

/** The field `to` of a form: groups and workstations. */
export function TargetSelect() {
  const groups = useGroups();
  const workstations = useQuery({
    queryKey: ["workstations", "names"],
    queryFn: () => ask(client.GET("/workstations", { params: { query: { state: "admitted", sort: "name", limit: 1000 } } })),
  });
  return (
    <Form.Item name="to" label="To" rules={[{ required: true, message: "Which groups or workstations?" }]}>
      <Select
        mode="multiple"
        placeholder="Groups and workstations"
        options={[
          { label: "Groups", options: groups ?? [] },
          { label: "Workstations", options: (workstations.data?.items ?? []).map((w) => ({ value: w.name, label: w.name })) },
        ]}
      />
    </Form.Item>
  );
}
