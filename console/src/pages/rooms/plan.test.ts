import { expect, test } from "vitest";
import { workstation } from "../../test/workstation";
import { inOrder, placeOf, planOf } from "./plan";

const at = (id: number, row: string, seat: string) => workstation(id, { fields: { row, seat } });

test("a place is two numbers from 1; anything else is not a place", () => {
  expect(placeOf(at(1, "2", "3"))).toEqual({ row: 2, seat: 3 });
  for (const [row, seat] of [["", ""], ["0", "1"], ["1", "61"], ["1e1", "1"], ["-1", "2"], ["999", "1"], ["1", ""]]) expect(placeOf(at(1, row, seat))).toBeUndefined();
});

test("two at one place: who comes second has none", () => {
  const plan = planOf([at(1, "1", "2"), at(2, "1", "2"), at(3, "4", "1"), workstation(4)]);
  expect([plan.rows, plan.seats]).toEqual([4, 2]);
  expect(plan.at({ row: 1, seat: 2 })?.id).toBe(1);
  expect(plan.elsewhere.map((w) => w.id)).toEqual([2, 4]);
});

test("those without a place come behind the others, row by row, as far as there are rows", () => {
  const many = Array.from({ length: 130 }, (_, i) => workstation(10 + i));
  const places = [...inOrder(planOf([at(1, "2", "1"), ...many]), 2).values()];
  expect(places.slice(0, 3)).toEqual([{ row: 3, seat: 1 }, { row: 3, seat: 2 }, { row: 4, seat: 1 }]);
  expect(places).toHaveLength(116); // 58 rows of two
});
