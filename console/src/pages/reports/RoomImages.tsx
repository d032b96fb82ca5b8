import { Tag } from "antd";
import { Link } from "react-router";
import { ask, client, type RoomReport } from "../../api/client";
import { ReportTable } from "./ReportTable";

/** Which room has which image, and who is behind. */
export function RoomImages() {
  return (
    <ReportTable<RoomReport>
      name="rooms"
      of={[]}
      fetch={(form) => ask(client.GET("/reports/rooms", { ...form }))}
      rowKey={(r) => `${r.group} ${r.image} ${r.unfinished}`}
      empty="No group has a workstation in it."
      columns={[
        { title: "Room", render: (_, r) => <Link to={`/rooms/${r.group}`}>{r.group}</Link> },
        { title: "Has", render: (_, r) => <b>{r.image ? `${r.image}${r.unfinished ? ", unfinished" : ""}` : "no image"}</b> },
        { title: "Workstations", align: "right", dataIndex: "workstation_count" },
        { title: "Should have", dataIndex: "should_have" },
        { title: "", render: (_, r) => r.behind && <Tag color="gold">behind</Tag> },
        { title: "Who", render: (_, r) => r.workstations.join(", ") },
      ]}
    />
  );
}
