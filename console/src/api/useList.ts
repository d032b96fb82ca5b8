import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { TableProps } from "antd";
import { useState } from "react";

export interface ListParams {
  search?: string;
  sort?: string;
  offset: number;
  limit: number;
}

interface PageOf<T> {
  items: T[];
  total: number;
}

/** A list that the service pages, sorts and searches, with the props of the table that shows it (parts/ListTable). */
export function useList<T extends object>(key: unknown[], fetch: (params: ListParams) => Promise<PageOf<T>>, limit = 25) {
  const [search, setSearch] = useState("");
  const [sort, setSort] = useState<string>();
  const [page, setPage] = useState(1);
  const params: ListParams = { search: search || undefined, sort, offset: (page - 1) * limit, limit };
  const query = useQuery({
    queryKey: [...key, params],
    queryFn: () => fetch(params),
    placeholderData: keepPreviousData,
  });
  const total = query.data?.total ?? 0;
  const table: TableProps<T> = {
    size: "small",
    dataSource: query.data?.items,
    loading: query.isPending,
    pagination: total > limit ? { current: page, pageSize: limit, total, showSizeChanger: false } : false,
    onChange: (p, _filters, sorter) => {
      const by = Array.isArray(sorter) ? sorter[0] : sorter;
      setSort(by?.order ? `${by.order === "descend" ? "-" : ""}${String(by.columnKey)}` : undefined);
      setPage(p.current ?? 1);
    },
  };
  return {
    ...query,
    total,
    table,
    search: (text: string) => {
      setSearch(text);
      setPage(1);
    },
  };
}
