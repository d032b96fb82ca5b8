import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import type { TableProps } from "antd";
import { useEffect, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { changed } from "./useParam";

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

/** How a list is to come: as JSON if nothing is said. */
export interface Form {
  headers?: { Accept: string };
  parseAs?: "json"; // "text" in truth: what comes is not typed then
}

/** Asks for a list as CSV; what comes is a text, whatever its type says. */
export const asText = { headers: { Accept: "text/csv" }, parseAs: "text" } as unknown as Form;

/** How many the service gives at once. */
const most = 1000;

type Fetch<T> = (params: ListParams, form?: Form) => Promise<PageOf<T>>;

/** A list of the service, as parts/ListTable shows it. */
export interface List<T> {
  data?: unknown;
  isPending: boolean;
  isError: boolean;
  error: Error | null;
  total: number;
  table: TableProps<T>;
  /** All of it as CSV; absent if the page does not let one have it. */
  csv?: () => Promise<string>;
}

/** Fetches all pages of a list as one table. */
async function asTable<T>(fetch: Fetch<T>, params: Omit<ListParams, "offset" | "limit">, total: number): Promise<string> {
  let text = "";
  for (let offset = 0; offset === 0 || offset < total; offset += most) {
    const page = (await fetch({ ...params, offset, limit: most }, asText)) as unknown as string;
    text += offset === 0 ? page : page.slice(page.indexOf("\n") + 1);
  }
  return text;
}

type Sorter<T> = Parameters<NonNullable<TableProps<T>["onChange"]>>[2];

/** What the service sorts by, as the table says it. */
function sortOf<T>(sorter: Sorter<T>): string | undefined {
  const by = Array.isArray(sorter) ? sorter[0] : sorter;
  return by?.order ? `${by.order === "descend" ? "-" : ""}${String(by.columnKey)}` : undefined;
}

interface Options {
  /** How many a page has. */
  limit?: number;
  /** What stands before its parts of the page's address, where that has several lists. */
  within?: string;
}

/**
 * A list that the service pages, sorts and searches, with the props of the table that shows it (parts/ListTable). What is looked for, the
 * order and the page are parts of the page's address.
 */
export function useList<T extends object>(key: unknown[], fetch: Fetch<T>, { limit = 25, within = "" }: Options = {}) {
  const [address, setAddress] = useSearchParams();
  const set = (to: Record<string, string | undefined>) => setAddress((before) => changed(before, Object.fromEntries(Object.entries(to).map(([name, value]) => [within + name, value]))), { replace: true });
  const search = address.get(`${within}search`) ?? undefined;
  const sort = address.get(`${within}sort`) ?? undefined;
  const page = Math.max(1, Math.floor(Number(address.get(`${within}page`))) || 1);
  const params: ListParams = { search, sort, offset: (page - 1) * limit, limit };
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
    onChange: (p, _filters, sorter) => set({ sort: sortOf(sorter), page: (p.current ?? 1) > 1 ? String(p.current) : undefined }),
  };
  return {
    ...query,
    total,
    table,
    csv: fetch.length > 1 ? () => asTable(fetch, { search, sort }, total) : undefined,
    searched: search,
    search: (text: string) => set({ search: text, page: undefined }),
  };
}

const none: never[] = [];

/** How many the first page has: it is on screen at once, and the others come after it. */
const first = 100;

/** The whole of a list, for a table that one scrolls through; the service sorts it. */
export function useWhole<T extends { id: number }>(key: unknown[], fetch: Fetch<T>) {
  const [sort, setSort] = useState<string>();
  const query = useInfiniteQuery({
    queryKey: [...key, { sort }],
    queryFn: ({ pageParam: offset }) => fetch({ sort, offset, limit: offset ? most : first }),
    initialPageParam: 0,
    getNextPageParam: (last, pages) => {
      const have = pages.reduce((n, p) => n + p.items.length, 0);
      return last.items.length > 0 && have < last.total ? have : undefined;
    },
    placeholderData: keepPreviousData,
  });
  const { hasNextPage, isFetching, isError, fetchNextPage } = query;
  useEffect(() => {
    if (hasNextPage && !isFetching && !isError) void fetchNextPage();
  }, [hasNextPage, isFetching, isError, fetchNextPage]);
  const pages = query.data?.pages;
  // Whoever moved from one page to the other while they came is in both.
  const items = useMemo(() => pages && [...new Map(pages.flatMap((p) => p.items).map((i) => [i.id, i])).values()], [pages]);
  const total = pages?.at(-1)?.total ?? 0;
  const table: TableProps<T> = {
    size: "small",
    dataSource: items,
    loading: query.isPending,
    pagination: false,
    onChange: (_page, _filters, sorter) => setSort(sortOf(sorter)),
  };
  return { ...query, items: items ?? none, total, table, csv: fetch.length > 1 ? () => asTable(fetch, { sort }, total) : undefined };
}
