import { expect, test } from "vitest";
import { nextName } from "./nextName";

test("the number that is free next, as wide as the others", () => {
  expect(nextName(["herb-01", "herb-02", "herb-04", "desk-gold", "lab-9"])).toBe("herb-03");
  expect(nextName(["kiosk9", "kiosk10"])).toBe("kiosk1");
  expect(nextName(["desk-gold"])).toBe("");
  expect(nextName([])).toBe("");
});
