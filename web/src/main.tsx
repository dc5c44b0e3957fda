import "@fontsource/ibm-plex-sans/400.css";
import "@fontsource/ibm-plex-sans/500.css";
import "@fontsource/ibm-plex-sans/600.css";
import "@fontsource/ibm-plex-mono/400.css";
import "@fontsource-variable/source-serif-4/index.css";
import { ChakraProvider } from "@chakra-ui/react";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Navigate, RouterProvider } from "react-router";
import { queryClient } from "./api/client";
import { Fault } from "./frame/Fault";
import { Frame } from "./frame/Frame";
import { applyTheme } from "./frame/theme";
import { system } from "./theme";

applyTheme();

const router = createBrowserRouter([
  {
    path: "/",
    element: <Frame />,
    errorElement: <Fault />,
    children: [
      { index: true, lazy: async () => ({ Component: (await import("./frame/First")).First }) },
      {
        path: "workloads",
        lazy: async () => ({ Component: (await import("./inventory/WorkloadsView")).WorkloadsView }),
      },
      {
        path: "workloads/:id",
        lazy: async () => ({ Component: (await import("./inventory/WorkloadPage")).WorkloadPage }),
      },
      { path: "groups/:name?", lazy: async () => ({ Component: (await import("./grouping/GroupsView")).GroupsView }) },
      { path: "flows", lazy: async () => ({ Component: (await import("./traffic/FlowsView")).FlowsView }) },
      {
        path: "flows/exporters",
        lazy: async () => ({ Component: (await import("./traffic/ExportersView")).ExportersView }),
      },
      { path: "policy", lazy: async () => ({ Component: (await import("./drafting/PolicyView")).PolicyView }) },
      { path: "release", lazy: async () => ({ Component: (await import("./releasing/ReleaseView")).ReleaseView }) },
      { path: "watch", lazy: async () => ({ Component: (await import("./watching/WatchView")).WatchView }) },
      { path: "evidence", lazy: async () => ({ Component: (await import("./auditing/EvidenceList")).EvidenceList }) },
      {
        path: "evidence/comparison",
        lazy: async () => ({ Component: (await import("./auditing/ComparePage")).ComparePage }),
      },
      {
        path: "evidence/:id",
        lazy: async () => ({ Component: (await import("./auditing/EvidencePage")).EvidencePage }),
      },
      { path: "check", lazy: async () => ({ Component: (await import("./checking/CheckView")).CheckView }) },
      { path: "*", element: <Navigate to="/check" replace /> },
    ],
  },
]);

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <ChakraProvider value={system}>
      <QueryClientProvider client={queryClient}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </ChakraProvider>
  </StrictMode>,
);
