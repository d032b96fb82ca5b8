import { useQueryClient } from "@tanstack/react-query";
import { Alert, App, Progress } from "antd";
import { useEffect, useRef, useState } from "react";
import { percent } from "../../format";

interface Failed {
  name: string;
  why: string;
}

/** How many are asked for at once. */
const together = 4;

/**
 * Does the same thing for many, one after the other: the service has no call for all of them. Who fails stops nobody, and is named with
 * the reason. What is not begun is left out when the dialog is closed.
 */
export function useEach<T>(name: (of: T) => string, act: (of: T) => Promise<unknown>, lists: string[]) {
  const queries = useQueryClient();
  const { message } = App.useApp();
  const [all, setAll] = useState<number>();
  const [done, setDone] = useState(0);
  const [failed, setFailed] = useState<Failed[]>([]);
  const ended = useRef(false);
  useEffect(() => {
    ended.current = false;
    return () => {
      ended.current = true;
    };
  }, []);
  const run = async (items: T[], well: (n: number) => string, close: () => void) => {
    setAll(items.length);
    setDone(0);
    setFailed([]);
    const waiting = items.slice();
    const not: Failed[] = [];
    const worker = async () => {
      for (let next = waiting.shift(); next !== undefined && !ended.current; next = waiting.shift()) {
        try {
          await act(next);
        } catch (e) {
          not.push({ name: name(next), why: (e as Error).message });
          setFailed([...not]);
        }
        setDone((n) => n + 1);
      }
    };
    await Promise.all(Array.from({ length: together }, worker));
    for (const list of lists) void queries.invalidateQueries({ queryKey: [list] });
    if (ended.current) return;
    setAll(undefined);
    const n = items.length - not.length;
    if (n > 0) void message.success(well(n));
    if (not.length === 0) close();
  };
  return {
    run,
    running: all !== undefined,
    shown: (
      <>
        {all !== undefined && <Progress percent={percent(done, all)} format={() => `${done} of ${all}`} aria-label="How far it is" />}
        {failed.length > 0 && <Alert type="error" showIcon title={failed.length === 1 ? "One was left as it was" : `${failed.length} were left as they were`} description={<Left failed={failed} />} style={{ marginTop: 12 }} />}
      </>
    ),
  };
}

function Left({ failed }: { failed: Failed[] }) {
  return (
    <ul style={{ margin: 0, paddingInlineStart: 18, maxHeight: 200, overflow: "auto" }}>
      {failed.map((f) => (
        <li key={f.name}>{`${f.name}: ${f.why}`}</li>
      ))}
    </ul>
  );
}
