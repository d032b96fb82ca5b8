import { Tag } from "antd";

const colours: Record<string, string> = {
  delivered: "green",
  finished: "green",
  done: "green",
  failed: "red",
  stopped: "volcano",
  absent: "default",
  sending: "gold",
  mending: "gold",
  receiving: "gold",
  checking: "cyan",
  ready: "blue",
  gathering: "blue",
  running: "gold",
  missed: "volcano",
  newcomer: "gold",
  visiting: "cyan",
  admitted: "green",
  wiped: "green",
  good: "green",
  doubtful: "gold",
  bad: "red",
  covered: "green",
  "will be installed": "cyan",
  uncovered: "red",
  "no driver": "red",
};

/** A state, phase or outcome in its colour. */
export function Outcome({ state }: { state: string }) {
  return <Tag color={colours[state] ?? "default"}>{state}</Tag>;
}
