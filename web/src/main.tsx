import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./app";
import { TipProvider } from "./ui/ui";
import "./styles.css";

document.documentElement.dataset.theme = localStorage.getItem("theme") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light");

const queries = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: 2000, refetchOnWindowFocus: false } } });

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
