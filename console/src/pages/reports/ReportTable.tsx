import { useQuery } from "@tanstack/react-query";
import { App, Button, Card, Flex, Table, type TableColumnType } from "antd";
import type { ReactNode } from "react";
import type { Form } from "../../api/useList";
import { asText } from "../../api/useList";
import { save } from "../../parts/save";
import { Shown } from "../../parts/Shown";

interface Props<T> {
  /** What it is called in the file that is saved of it. */
  name: string;
  of: unknown[];
  fetch: (form?: Form) => Promise<{ items: T[]; total: number }>;
  columns: TableColumnType<T>[];
  rowKey: (row: T) => string;
  empty: string;
  /** What stands below: sums. */
  summary?: (rows: readonly T[]) => ReactNode;
}

/** A report: all of it on one page, which prints as it is, and as a table to save. */
export function ReportTable<T extends object>({ name, of, fetch, columns, rowKey, empty, summary }: Props<T>) {
  const { message } = App.useApp();
  const query = useQuery({ queryKey: ["report", name, ...of], queryFn: () => fetch() });
  const saveAll = () => fetch(asText).then((text) => save(`${name}.csv`, text as unknown as string), (e: Error) => void message.error(e.message));
  return (
    <Shown query={query}>
      {({ items }) => (
        <Card styles={{ body: { padding: 0 } }}>
          <Table<T> size="small" pagination={false} rowKey={rowKey} dataSource={items} columns={columns} locale={{ emptyText: empty }} summary={items.length > 0 ? summary : undefined} />
          <Flex gap={8} justify="end" style={{ padding: 8 }}>
            <Button size="small" onClick={() => window.print()}>
              Print
            </Button>
            <Button size="small" onClick={() => void saveAll()}>
              Save as CSV
            </Button>
          </Flex>
        </Card>
      )}
    </Shown>
  );
}
