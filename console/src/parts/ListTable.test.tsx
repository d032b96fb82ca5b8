import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { List } from "../api/useList";
import { house } from "../test/house";
import { ListTable } from "./ListTable";

interface Row {
  id: number;
  name: string;
}

const list = (more: Partial<List<Row>> = {}): List<Row> => ({ data: {}, isPending: false, isError: false, error: null, total: 1234, table: { dataSource: [{ id: 1, name: "herb-01" }] }, ...more });

const shown = (l: List<Row>) => (
  <ListTable<Row>
    name="things"
    list={l}
    rowKey="id"
    empty="None is there."
    columns={[
      { title: "Number", dataIndex: "id" },
      { title: "Name", dataIndex: "name" },
    ]}
  />
);

const headings = () => screen.getAllByRole("columnheader").map((h) => h.textContent);

test("a column that nobody wants stays away", async () => {
  const { unmount } = render(shown(list()), { wrapper: house() });
  expect(headings()).toEqual(["Number", "Name"]);
  await userEvent.click(screen.getByText("Columns"));
  await userEvent.click(await screen.findByRole("checkbox", { name: "Number" }));
  expect(headings()).toEqual(["Name"]);
  unmount();
  render(shown(list()), { wrapper: house() });
  expect(headings()).toEqual(["Name"]);
});

test("what the browser has kept badly is not kept", () => {
  localStorage.setItem("hidden columns of things", "{not JSON");
  render(shown(list()), { wrapper: house() });
  expect(headings()).toEqual(["Number", "Name"]);
});

test("a list that could not be had is not an empty one", () => {
  render(shown(list({ data: undefined, isError: true, error: new Error("the disk is full"), total: 0 })), { wrapper: house() });
  expect(screen.getByText("the disk is full")).toBeTruthy();
  expect(screen.queryByText("None is there.")).toBeNull();
});
