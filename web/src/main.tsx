import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Refused } from "./api";
import { App } from "./app";
import { TipProvider } from "./ui/ui";
import "./styles.css";

document.documentElement.dataset.theme = localStorage.getItem("theme") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light");

// who is not known any more sees the page on which one signs in
const unknown = (e: Error) => {
  if (e instanceof Refused && e.problem.status === 401) void queries.invalidateQueries({ queryKey: ["me"] });
};

const queries = new QueryClient({ queryCache: new QueryCache({ onError: unknown }), defaultOptions: { queries: { retry: false, staleTime: 2000, refetchOnWindowFocus: false } } });

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <TipProvider delayDuration={250}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </TipProvider>
    </QueryClientProvider>
  </StrictMode>,
);
