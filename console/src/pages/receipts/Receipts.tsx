import { App, Card, Flex, Input, Select, Tag, Tooltip, Typography } from "antd";
import { Link, useSearchParams } from "react-router";
import { ask, client, type Receipt } from "../../api/client";
import { useList } from "../../api/useList";
import { changed } from "../../api/useParam";
import { seconds, size, when } from "../../format";
import { Address } from "../../parts/Address";
import { ListTable } from "../../parts/ListTable";
import { explained } from "../../parts/Explain";
import { Outcome } from "../../parts/Outcome";
import { PageTitle } from "../../parts/PageTitle";
import { RecordsCheck } from "../../parts/RecordsCheck";
import { save } from "../../parts/save";

const outcomes = ["delivered", "failed", "stopped", "absent", "wiped"] as const;

const arrivals = { arrived: "green", awaited: undefined, "not arrived": "volcano" } as const;

/** What the system of a copy told when it started first. */
const arrivedAs = ({ arrival }: Receipt) =>
  arrival?.report && `${arrival.report.computer_name}, ${arrival.report.operating_system}, ${arrival.report.ip_addresses.join(" ")}, ${when(arrival.at!)}`;

/** Of a wipe, how it was done. */
function Wiped({ receipt: { wipe } }: { receipt: Receipt }) {
  if (!wipe) return null;
  return (
    <Tooltip title={`${wipe.wipe_method}: ${wipe.technique}; ${size(wipe.verified_bytes)} of ${size(wipe.size)} read back (${wipe.read_back}); disk ${wipe.disk_model}, serial ${wipe.disk_serial}. ${wipe.remarks.join("; ")}`}>
      <Tag>wipe</Tag>
    </Tooltip>
  );
}

export function Receipts() {
  const { message } = App.useApp();
  const prove = async (receipt: number) => {
    try {
      save(`receipt-${receipt}.proof`, (await ask(client.GET("/receipts/{receipt}/proof", { params: { path: { receipt } } }))).proof);
    } catch (e) {
      void message.error((e as Error).message);
    }
  };
  const [params, setParams] = useSearchParams();
  const outcome = outcomes.find((o) => o === params.get("outcome"));
  const setOutcome = (to?: (typeof outcomes)[number]) => setParams((before) => changed(before, { outcome: to, page: undefined }), { replace: true });
  const delivery = Number(params.get("delivery")) || undefined;
  const list = useList<Receipt>(["receipts", outcome, delivery], (query, form) =>
    ask(client.GET("/receipts", { params: { query: { ...query, outcome, delivery } }, ...form })),
  );
  return (
    <>
      <PageTitle title="Receipts">
        {delivery && (
          <Tag closable onClose={() => setParams({})}>
            delivery {delivery}
          </Tag>
        )}
        <Flex gap={8}>
          <RecordsCheck />
          <Select allowClear aria-label="Outcome" placeholder="All outcomes" value={outcome} onChange={setOutcome} options={outcomes.map((value) => ({ value, label: value }))} style={{ width: 150 }} />
          <Input.Search allowClear placeholder="Workstation, address, image, reason" defaultValue={list.searched} onSearch={list.search} style={{ width: 300 }} />
        </Flex>
      </PageTitle>
      <Card styles={{ body: { padding: 0 } }}>
        <ListTable<Receipt>
          name="receipts"
          list={list}
          rowKey="id"
          empty="No receipt yet. Each delivery leaves one for every workstation."
          columns={[
            {
              title: "No.",
              render: (_, r) => (
                <Tooltip title="Save its proof">
                  <Typography.Link onClick={() => void prove(r.id)}>{r.id}</Typography.Link>
                </Tooltip>
              ),
            },
            { title: "Ended", key: "ended", sorter: true, render: (_, r) => <span style={{ whiteSpace: "nowrap" }}>{when(r.ended)}</span> },
            { title: "Workstation", key: "workstation", sorter: true, render: (_, r) => <Of receipt={r} /> },
            { title: "Hardware address", render: (_, r) => <Address text={r.hardware_address} /> },
            { title: "Image", key: "image", sorter: true, render: (_, r) => <What receipt={r} /> },
            { title: explained("Outcome", { kind: "outcome of a receipt" }), key: "outcome", sorter: true, render: (_, r) => <Outcome state={r.outcome} /> },
            { title: "Verified", render: (_, r) => (r.verified ? "yes" : "no") },
            { title: "By multicast", align: "right", render: (_, r) => size(r.bytes_multicast) },
            { title: "Mended", align: "right", render: (_, r) => size(r.bytes_unicast) },
            { title: "Took", align: "right", render: (_, r) => (r.started ? <span style={{ whiteSpace: "nowrap" }}>{seconds(r.seconds)}</span> : "") },
            { title: "Delivery", render: (_, r) => !r.wipe && <Link to={`/deliveries/${r.delivery}`}>{`No. ${r.delivery}`}</Link> },
            { title: explained("Arrival", { name: "arrival" }), render: (_, r) => r.arrival && <Tooltip title={arrivedAs(r)}>{r.arrival.remark ? <Tag color="volcano">{r.arrival.remark}</Tag> : <Tag color={arrivals[r.arrival.state]}>{r.arrival.state}</Tag>}</Tooltip> },
            { title: "Drivers", render: (_, r) => r.drivers?.join(", ") },
            { title: "Reason", dataIndex: "reason" },
          ]}
        />
      </Card>
    </>
  );
}

/** What was put on the disk, or that it was wiped. */
function What({ receipt: r }: { receipt: Receipt }) {
  if (r.wipe) return <Wiped receipt={r} />;
  return (
    <Tooltip title={`digest ${r.digest}`}>
      <Link to={`/images/${r.image}`}>{`${r.image}@${r.version}`}</Link>
      {!!r.partition && `, partition ${r.partition}`}
    </Tooltip>
  );
}

/** Whose receipt it is: the name it had then, or what the machine was that nobody had admitted. */
function Of({ receipt: r }: { receipt: Receipt }) {
  const machine = [r.maker, r.model, r.serial].filter(Boolean).join(" ");
  if (r.workstation !== r.hardware_address)
    return (
      <Tooltip title={machine}>
        <b>{r.workstation}</b>
      </Tooltip>
    );
  return (
    <>
      <b>{machine || "a machine"}</b>
      <div>
        <Typography.Text type="secondary">{r.job ? `at a bench, job ${r.job}` : "at a bench"}</Typography.Text>
      </div>
    </>
  );
}
