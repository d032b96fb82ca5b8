import { Link } from "react-router";
import { ask, client, type FailureReport } from "../../api/client";
import { when } from "../../format";
import { Outcome } from "../../parts/Outcome";
import { ReportTable } from "./ReportTable";

/** Disks and memory that failed, and whatever else the last checks did not find good. */
export function Failures({ since, until }: { since: string; until: string }) {
  return (
    <ReportTable<FailureReport>
      name="failures"
      of={[since, until]}
      fetch={(form) => ask(client.GET("/reports/failures", { params: { query: { since, until } }, ...form }))}
      rowKey={(r) => `${r.workstation} ${r.ended} ${r.about} ${r.text}`}
      empty="No check of that time has found anything wrong."
      columns={[
        { title: "Workstation", render: (_, r) => <Link to={`/workstations/${r.workstation}`}>{r.workstation}</Link> },
        { title: "Model", render: (_, r) => `${r.maker} ${r.model}` },
        { title: "Serial", dataIndex: "serial" },
        { title: "Checked", render: (_, r) => when(r.ended) },
        { title: "Verdict", render: (_, r) => <Outcome state={r.verdict} /> },
        { title: "About", dataIndex: "about" },
        { title: "What", dataIndex: "text" },
      ]}
    />
  );
}
