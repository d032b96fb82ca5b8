import { render, screen } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import type { Check } from "../../api/client";
import { Health } from "./Health";

vi.mock("../../parts/Chart", () => ({ Chart: ({ about, times, lines }: { about: string; times: number[]; lines: { values: unknown[] }[] }) => <div>{`${about} | ${times} | ${lines.map((l) => l.values).join(" ")}`}</div> }));

const check = (id: number, day: number, serial: string, defects: number, silent = false): Check =>
  ({ id, ended: `2026-03-0${day}T09:00:00Z`, disk_vitals: { disk_serial: serial, silent, wrong: [], odd: [], temperature: 31, hours: 1200, life_used_percent: 4, defects } }) as unknown as Check;

test("a disk's defects are a trend, and those of the disk before it are not in it", () => {
  render(<Health checks={[check(4, 4, "M-2", 9), check(3, 3, "M-2", 2), check(2, 2, "M-1", 700), check(1, 1, "M-2", 0, true)]} />);
  expect(screen.getByText(/Defects of the disk, 2 at first and 9 now/).textContent).toContain("| 0,86400 | 2,9 4,4");
  expect(screen.getByText(/Disk M-2: good; on for 1,200 hours, 31 °C/)).toBeTruthy();
});

test("one check makes no trend, and a disk that says nothing has none", () => {
  const { container, rerender } = render(<Health checks={[check(1, 1, "M-1", 3)]} />);
  expect(container.textContent).not.toContain("|");
  rerender(<Health checks={[check(1, 1, "M-1", 0, true)]} />);
  expect(container.textContent).toBe("");
});
