import { App, Button, Checkbox, Flex, Popover, Table, type TableColumnType, type TableProps, Typography } from "antd";
import { isValidElement, type ReactNode, useState } from "react";
import type { List } from "../api/useList";
import { Failure } from "./Shown";
import { save } from "./save";
import { useKept } from "./useKept";
import { whole } from "../format";

type Props<T> = Omit<TableProps<T>, "locale" | "columns"> & {
  list: List<T>;
  columns: TableColumnType<T>[];
  /** What it is called in the file that is saved of it, and where the browser keeps which columns are shown. */
  name: string;
  /** Why there is nothing, and what to do, if the list is empty. */
  empty?: string;
};

/** A list of the service as a table, with the columns that the reader wants. A list that could not be had is not an empty one. */
export function ListTable<T extends object>({ list, empty, name, columns, ...table }: Props<T>) {
  const [hidden, setHidden] = useKept(`hidden columns of ${name}`);
  if (list.isError && !list.data) return <Failure error={list.error!} />;
  const shown = columns.filter((c) => !hidden.includes(titleOf(c.title as ReactNode)));
  return (
    <>
      {list.isError && <Failure error={list.error!} />}
      <Table<T>
        {...list.table}
        {...table}
        columns={shown}
        locale={{ emptyText: list.isPending ? "" : empty }}
        footer={list.total > 0 ? () => <Foot list={list} name={name} titles={columns.map((c) => titleOf(c.title as ReactNode)).filter(Boolean)} hidden={hidden} setHidden={setHidden} /> : undefined}
      />
    </>
  );
}

/** The words of a heading. */
function titleOf(title: ReactNode): string {
  if (typeof title === "string") return title;
  if (isValidElement<{ title?: string }>(title)) return title.props.title ?? "";
  return "";
}

interface FootProps<T> {
  list: List<T>;
  name: string;
  titles: string[];
  hidden: string[];
  setHidden: (titles: string[]) => void;
}

function Foot<T>({ list, name, titles, hidden, setHidden }: FootProps<T>) {
  const { message } = App.useApp();
  const [saving, setSaving] = useState(false);
  const saveAll = async () => {
    setSaving(true);
    try {
      save(`${name}.csv`, await list.csv!());
    } catch (e) {
      void message.error((e as Error).message);
    } finally {
      setSaving(false);
    }
  };
  const choice = (
    <Checkbox.Group value={titles.filter((t) => !hidden.includes(t))} onChange={(on) => setHidden(titles.filter((t) => !on.includes(t)))}>
      <Flex vertical>
        {titles.map((t) => (
          <Checkbox key={t} value={t}>
            {t}
          </Checkbox>
        ))}
      </Flex>
    </Checkbox.Group>
  );
  return (
    <Flex gap={8} align="center" justify="end" className="foot" data-loaded={list.table.dataSource?.length}>
      <Typography.Text type="secondary">{list.total === 1 ? "1 in all" : `${whole(list.total)} in all`}</Typography.Text>
      <Popover trigger="click" placement="topRight" content={choice}>
        <Button size="small" type="text">
          {hidden.length ? `Columns (${hidden.length} hidden)` : "Columns"}
        </Button>
      </Popover>
      {list.csv && (
        <Button size="small" type="text" loading={saving} onClick={() => void saveAll()}>
          Save as CSV
        </Button>
      )}
    </Flex>
  );
}
