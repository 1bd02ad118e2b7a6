import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./app";
import { queries } from "./data/api";
import "./styles.css";

const kept = localStorage.getItem("yamato.theme");
const night = kept ? kept === "night" : window.matchMedia("(prefers-color-scheme: dark)").matches;
document.documentElement.dataset.theme = night ? "night" : "day";

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
