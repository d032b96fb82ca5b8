import "./nonce";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App as Messages, ConfigProvider } from "antd";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Gate } from "./Gate";
import { theme } from "./theme";

const queries = new QueryClient({
  defaultOptions: { queries: { retry: 1, staleTime: 30_000 } },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <ConfigProvider theme={theme}>
        <Messages>
          <BrowserRouter>
            <Gate />
          </BrowserRouter>
        </Messages>
      </ConfigProvider>
    </QueryClientProvider>
  </StrictMode>,
);
