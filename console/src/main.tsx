import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { isAway } from "./api/client";
import { App } from "./app";
import { Toasts } from "./components/toast";
import "./index.css";
import { applyTheme } from "./theme";

applyTheme();

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      // Events say when something is to be read again.
      staleTime: Infinity,
      refetchOnWindowFocus: false,
      retry: (failures, error) => isAway(error) && failures < 3,
    },
    // What cannot be done now fails at once. Else it would wait to be done when the service
    // is there again, though somebody has given it up by then.
    mutations: { networkMode: "always" },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Toasts>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </Toasts>
    </QueryClientProvider>
  </StrictMode>,
);
