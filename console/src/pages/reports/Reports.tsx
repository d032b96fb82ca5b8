import { DatePicker, Segmented } from "antd";
import dayjs from "dayjs";
import { useOneOf, useParam } from "../../api/useParam";
import { day } from "../../format";
import { PageTitle } from "../../parts/PageTitle";
import { Failures } from "./Failures";
import { PeriodReceipts } from "./PeriodReceipts";
import { RoomImages } from "./RoomImages";
import { Savings } from "./Savings";

const kinds = ["Rooms", "Failures", "Savings", "Receipts"] as const;

/** How far back reports go where nobody says, in days. */
const usual = 30;

/** What people ask for who never open the console: to print, and as tables. */
export function Reports() {
  const [kind, setKind] = useOneOf("report", kinds);
  const [from, setFrom] = useParam("from");
  const [to, setTo] = useParam("to");
  const begin = dayjs(from ?? dayjs().subtract(usual, "day")).startOf("day");
  const end = dayjs(to ?? undefined).endOf("day");
  const period = { since: begin.toISOString(), until: end.toISOString() };
  return (
    <>
      <PageTitle title={kind === "Rooms" ? "What rooms have" : `${kind}, ${day(begin.toDate())} to ${day(end.toDate())}`}>
        <div className="unprinted">
          <Segmented options={[...kinds]} value={kind} onChange={setKind} />
        </div>
        {kind !== "Rooms" && (
          <div className="unprinted">
            <DatePicker aria-label="From" allowClear={false} value={begin} maxDate={end} onChange={(d) => setFrom(d?.format("YYYY-MM-DD"))} /> to <DatePicker aria-label="To" allowClear={false} value={end} minDate={begin} onChange={(d) => setTo(d?.format("YYYY-MM-DD"))} />
          </div>
        )}
      </PageTitle>
      {kind === "Rooms" && <RoomImages />}
      {kind === "Failures" && <Failures {...period} />}
      {kind === "Savings" && <Savings {...period} />}
      {kind === "Receipts" && <PeriodReceipts {...period} />}
    </>
  );
}
