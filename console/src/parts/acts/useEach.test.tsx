import { render, screen, waitFor } from "@testing-library/react";
import { expect, test } from "vitest";
import { house } from "../../test/house";
import { useEach } from "./useEach";

interface Props {
  act: (n: number) => Promise<void>;
  items: number[];
  close: () => void;
}

function Doer({ act, items, close }: Props) {
  const each = useEach<number>((n) => `herb-${n}`, act, []);
  return (
    <>
      <button type="button" disabled={each.running} onClick={() => void each.run(items, (n) => `${n} are done`, close)}>
        go
      </button>
      {each.shown}
    </>
  );
}

test("who fails stops nobody, and is named with the reason", async () => {
  const done: number[] = [];
  let closed = false;
  const act = async (n: number) => {
    if (n % 3 === 0) throw new Error(`${n} does not want to`);
    done.push(n);
  };
  render(<Doer act={act} items={[1, 2, 3, 4, 5, 6, 7]} close={() => (closed = true)} />, { wrapper: house() });
  screen.getByText("go").click();
  await screen.findByText("herb-3: 3 does not want to");
  await screen.findByText("herb-6: 6 does not want to");
  await screen.findByText("5 are done");
  expect(done).toEqual([1, 2, 4, 5, 7]);
  expect(closed).toBe(false);
});

test("what is not begun is left out when the dialog is closed", async () => {
  const begun: number[] = [];
  const waiting: (() => void)[] = [];
  const act = (n: number) => {
    begun.push(n);
    return new Promise<void>((resolve) => waiting.push(resolve));
  };
  const { unmount } = render(<Doer act={act} items={[1, 2, 3, 4, 5, 6, 7, 8]} close={() => undefined} />, { wrapper: house() });
  screen.getByText("go").click();
  await waitFor(() => expect(begun).toEqual([1, 2, 3, 4]));
  unmount();
  for (const go of waiting) go();
  await Promise.resolve();
  expect(begun).toEqual([1, 2, 3, 4]);
});
