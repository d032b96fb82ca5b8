import { useSyncExternalStore } from "react";

/** What waits until somebody has signed in again; absent as long as the session is good. */
let waiting: (() => void)[] | undefined;
const told = new Set<() => void>();

const tell = () => {
  for (const t of told) t();
};

/** Whether there is somebody to ask for a sign-in: not before anybody has signed in. */
export const canAsk = () => told.size > 0;

/** Says that the session has ended, and returns when there is another one. */
export function signedInAgain(): Promise<void> {
  waiting ??= [];
  const answer = new Promise<void>((resolve) => waiting!.push(resolve));
  tell();
  return answer;
}

/** Says that there is a session again. */
export function welcomeBack() {
  const all = waiting ?? [];
  waiting = undefined;
  tell();
  for (const go of all) go();
}

/** Whether the session has ended under somebody's hands. */
export function useSignedOut(): boolean {
  return useSyncExternalStore(
    (t) => {
      told.add(t);
      return () => told.delete(t);
    },
    () => waiting !== undefined,
  );
}
