import { DatePicker, Segmented } from "antd";
import dayjs from "dayjs";
import { useOneOf, useParam } from "../../api/useParam";
import { day } from "../../format";
import { PageTitle } from "../../parts/PageTitle";
import { DriverLines } from "./DriverLines";
import { Failures } from "./Failures";
import { Licences } from "./Licences";
import { PeriodReceipts } from "./PeriodReceipts";
import { RoomImages } from "./RoomImages";
import { Savings } from "./Savings";

const kinds = ["Rooms", "Failures", "Savings", "Receipts", "Drivers", "Licences"] as const;

/** Those that are of now, and of no period. */
const ofNow: Partial<Record<(typeof kinds)[number], string>> = { Rooms: "What rooms have", Drivers: "Drivers, model by model", Licences: "Licences and domains" };

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
      <PageTitle title={ofNow[kind] ?? `${kind}, ${day(begin.toDate())} to ${day(end.toDate())}`}>
        <div className="unprinted">
          <Segmented options={[...kinds]} value={kind} onChange={setKind} />
        </div>
        {!ofNow[kind] && (
          <div className="unprinted">
            <DatePicker aria-label="From" allowClear={false} value={begin} maxDate={end} onChange={(d) => setFrom(d?.format("YYYY-MM-DD"))} /> to <DatePicker aria-label="To" allowClear={false} value={end} minDate={begin} onChange={(d) => setTo(d?.format("YYYY-MM-DD"))} />
          </div>
        )}
      </PageTitle>
      {kind === "Rooms" && <RoomImages />}
      {kind === "Failures" && <Failures {...period} />}
      {kind === "Savings" && <Savings {...period} />}
      {kind === "Drivers" && <DriverLines />}
      {kind === "Licences" && <Licences />}
      {kind === "Receipts" && <PeriodReceipts {...period} />}
    </>
  );
}
