import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App } from "antd";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";

/** What every part of the console finds around it. */
export function house(at = "/", queries = new QueryClient({ defaultOptions: { queries: { retry: false } } })) {
  return ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={queries}>
      <App>
        <MemoryRouter initialEntries={[at]}>{children}</MemoryRouter>
      </App>
    </QueryClientProvider>
  );
}
