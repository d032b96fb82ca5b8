import { Link } from "react-router";
import { ask, client, type DriverReport } from "../../api/client";
import { useParam } from "../../api/useParam";
import { findImages } from "../../parts/findImages";
import { modelPath } from "../../parts/model";
import { Outcome } from "../../parts/Outcome";
import { SearchSelect } from "../../parts/SearchSelect";
import { ReportTable } from "./ReportTable";

/** For each device of each model, whether it has a driver: in the boot environment, and in what an image delivers. */
export function DriverLines() {
  const [image, setImage] = useParam("image");
  return (
    <>
      <div className="unprinted" style={{ marginBottom: 12 }}>
        <SearchSelect name="images" find={findImages} allowClear aria-label="Image" placeholder="Also in what an image delivers" value={image} onChange={setImage} style={{ width: 280 }} />
      </div>
      <ReportTable<DriverReport>
        name="drivers"
        of={[image]}
        fetch={(form) => ask(client.GET("/reports/drivers", { params: { query: { image } }, ...form }))}
        rowKey={(r) => r.model + r.device_id}
        empty="Which devices there are was not seen yet."
        columns={[
          { title: "Model", render: (_, r) => <Link to={modelPath(r.model)}>{r.model}</Link> },
          { title: "Workstations", align: "right", dataIndex: "workstation_count" },
          { title: "Device", dataIndex: "device_name" },
          { title: "Class", dataIndex: "class" },
          { title: "In the boot environment", render: (_, r) => <Driven state={r.environment_state} by={r.environment_by} /> },
          ...(image ? [{ title: `In ${image}`, render: (_: unknown, r: DriverReport) => <Driven state={r.system_state} by={r.system_by} /> }] : []),
        ]}
      />
    </>
  );
}

function Driven({ state, by }: { state: string; by: string }) {
  return (
    <>
      <Outcome state={state} /> {by}
    </>
  );
}
