import { Table, type TableProps } from "antd";
import type { useList } from "../api/useList";
import { Failure } from "./Shown";

type Props<T> = Omit<TableProps<T>, "locale"> & {
  list: ReturnType<typeof useList<T & object>>;
  /** Why there is nothing, and what to do, if the list is empty. */
  empty?: string;
};

/** A list of the service as a table. A list that could not be had is not an empty one. */
export function ListTable<T extends object>({ list, empty, ...table }: Props<T>) {
  if (list.isError && !list.data) return <Failure error={list.error} />;
  return (
    <>
      {list.isError && <Failure error={list.error} />}
      <Table<T> {...list.table} {...table} locale={{ emptyText: list.isPending ? "" : empty }} />
    </>
  );
}
