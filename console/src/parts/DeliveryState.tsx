import { Tag } from "antd";
import type { Delivery } from "../api/client";
import { Outcome } from "./Outcome";

/** How far a delivery is; of one that is over, how many it has reached. */
export function DeliveryState({ delivery: d }: { delivery: Delivery }) {
  if (!d.ended || d.delivered === d.workstation_count) return <Outcome state={d.state} />;
  const reached = d.delivered ? `${d.delivered} of ${d.workstation_count} got it` : "nobody got it";
  return <Tag color={d.delivered ? "orange" : "red"}>{`${d.state}, ${reached}`}</Tag>;
}
