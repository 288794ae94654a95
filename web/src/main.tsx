import "antd/dist/reset.css";
import "@fontsource-variable/source-sans-3";
import "@fontsource-variable/source-serif-4";
import "@fontsource-variable/source-code-pro";
// In this order: of rules that are equally strict the later one holds.
import "./ui/theme.css";
import "./frame/frame.css";
import "./steps/steps.css";
import "./steps/question.css";
import "./steps/data/tables.css";
import "./steps/approaches/approaches.css";
import "./steps/agreement.css";
import "./lanes/drawer.css";
import "./steps/approaches/tried.css";
import "./steps/evidence.css";
import "./steps/approaches/sheets.css";
import "./steps/trial.css";
import "./steps/data/data.css";
import "./lanes/board.css";
import "./steps/live.css";
import "./steps/sweep/sweep.css";
import "./steps/history/history.css";

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App as AntApp, ConfigProvider } from "antd";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Navigate, RouterProvider } from "react-router";
import { Problem } from "./api/client";
import { Frame } from "./frame/Frame";
import { ListPage } from "./frame/ListPage";
import { nonce } from "./ui/nonce";
import { antd, applyMode, useMode } from "./ui/theme";

applyMode();

const cache = new QueryClient({
  defaultOptions: {
    queries: {
      refetchOnWindowFocus: false,
      retry: (failures, error) => !(error instanceof Problem && error.status) && failures < 2,
    },
  },
});

const router = createBrowserRouter([
  {
    element: <Frame />,
    children: [
      { path: "/", element: <ListPage /> },
      {
        path: "/machine",
        lazy: async () => ({ Component: (await import("./frame/MachinePage")).MachinePage }),
      },
      {
        path: "/people",
        lazy: async () => ({ Component: (await import("./frame/PeoplePage")).PeoplePage }),
      },
      {
        path: "/queue",
        lazy: async () => ({ Component: (await import("./frame/QueuePage")).QueuePage }),
      },
      { path: "/comparisons/:id", element: <Navigate to="question" replace /> },
      {
        path: "/comparisons/:id/:step",
        lazy: async () => ({ Component: (await import("./frame/ComparisonPage")).ComparisonPage }),
      },
      { path: "*", element: <Navigate to="/" replace /> },
    ],
  },
]);

function Root() {
  const mode = useMode();
  return (
    <ConfigProvider csp={{ nonce: nonce() }} theme={antd(mode)}>
      <AntApp component={false}>
        <QueryClientProvider client={cache}>
          <RouterProvider router={router} />
        </QueryClientProvider>
      </AntApp>
    </ConfigProvider>
  );
}

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <Root />
    </StrictMode>,
  );
}
