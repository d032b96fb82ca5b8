import type { UseQueryResult } from "@tanstack/react-query";
import { Alert, Spin } from "antd";
import type { ReactNode } from "react";

/** What a question to the service has brought: its answer, the wait for it, or what went wrong. */
export function Shown<T>({ query, children }: { query: UseQueryResult<T>; children: (answer: T) => ReactNode }) {
  if (query.data !== undefined) return children(query.data);
  if (query.isError) return <Failure error={query.error} />;
  return <Spin />;
}

/** What went wrong, in the service's words. */
export function Failure({ error }: { error: Error }) {
  return <Alert type="error" showIcon title={error.message} />;
}
