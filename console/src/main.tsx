import "./nonce";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App as Messages, ConfigProvider } from "antd";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Gate } from "./Gate";
import { session } from "./api/session";
import { useTheme } from "./theme";

const queries = new QueryClient({
  defaultOptions: { queries: { retry: 1, staleTime: 30_000 } },
});

void queries.prefetchQuery(session); // beside the scripts

function Themed() {
  return (
    <ConfigProvider theme={useTheme()}>
      <Messages>
        <BrowserRouter>
          <Gate />
        </BrowserRouter>
      </Messages>
    </ConfigProvider>
  );
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Themed />
    </QueryClientProvider>
  </StrictMode>,
);
