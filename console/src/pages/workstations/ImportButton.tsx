import { useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Flex, Modal, Table, Tag, Upload } from "antd";
import { useState } from "react";
import type { Imported, ImportedRow } from "../../api/client";

const colors: Record<ImportedRow["what"], string> = { new: "green", changed: "blue", "in doubt": "volcano" };

async function send(table: Blob, dryRun: boolean) {
  const reply = await fetch(`/api/v1/roster?dry_run=${dryRun}`, { method: "POST", body: table, headers: { "Content-Type": "text/csv" } });
  const body = (await reply.json()) as Imported & { detail?: string };
  if (!reply.ok) throw new Error(body.detail ?? `the service answered ${reply.status}`);
  return body;
}

/** Takes a table of workstations into the roster, after showing what that changes. */
export function ImportButton() {
  const [table, setTable] = useState<File>();
  const [plan, setPlan] = useState<Imported>();
  const [busy, setBusy] = useState(false);
  const { message } = App.useApp();
  const queries = useQueryClient();
  const carefully = async (work: () => Promise<void>) => {
    setBusy(true);
    await work().catch((error: unknown) => message.error(error instanceof Error ? error.message : String(error), 8));
    setBusy(false);
  };
  const enter = () =>
    carefully(async () => {
      if (!table) return;
      const done = await send(table, false);
      void message.success(`Entered: ${counts(done)}.`);
      setPlan(undefined);
      for (const key of ["newcomers", "workstations", "workstation", "groups"]) void queries.invalidateQueries({ queryKey: [key] });
    });
  const changes = plan ? plan.new_rows + plan.changed_rows : 0;
  return (
    <>
      <Upload
        accept=".csv,.txt,text/csv"
        showUploadList={false}
        beforeUpload={(file) => {
          setTable(file);
          void carefully(async () => setPlan(await send(file, true)));
          return false;
        }}
      >
        <Button loading={busy && !plan}>Import…</Button>
      </Upload>
      <Button href="/api/v1/roster" download="roster.csv">
        Export
      </Button>
      <Modal
        title={`What ${table?.name ?? "the table"} changes`}
        open={!!plan}
        width={900}
        okText={changes === 0 ? "Nothing to enter" : `Enter ${changes} ${changes === 1 ? "row" : "rows"}`}
        okButtonProps={{ disabled: changes === 0 }}
        confirmLoading={busy}
        onOk={() => void enter()}
        onCancel={() => setPlan(undefined)}
      >
        {plan && <Plan plan={plan} />}
      </Modal>
    </>
  );
}

const counts = (i: Imported) => `${i.new_rows} new, ${i.changed_rows} changed, ${i.unchanged_rows} unchanged, ${i.rows_in_doubt} in doubt`;

function Plan({ plan }: { plan: Imported }) {
  return (
    <Flex vertical gap={12}>
      <span>{counts(plan)}</span>
      {plan.rows_in_doubt > 0 && <Alert type="warning" showIcon title="Rows in doubt are left out." />}
      <Table<ImportedRow>
        size="small"
        rowKey="line"
        dataSource={plan.rows}
        pagination={plan.rows.length > 10 ? { pageSize: 10, showSizeChanger: false } : false}
        locale={{ emptyText: "Everything is so already." }}
        columns={[
          { title: "Line", dataIndex: "line", align: "right", width: 60 },
          { title: "Workstation", dataIndex: "workstation", width: 160 },
          { title: "Is", dataIndex: "what", width: 100, render: (what: ImportedRow["what"]) => <Tag color={colors[what]}>{what}</Tag> },
          { title: "What", render: (_, r) => r.problem || r.did.join("; ") },
        ]}
      />
    </Flex>
  );
}
