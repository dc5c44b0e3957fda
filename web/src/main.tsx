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
import { CheckView } from "./check/CheckView";
import { ExportersView } from "./flows/ExportersView";
import { FlowsView } from "./flows/FlowsView";
import { Fault } from "./frame/Fault";
import { Frame } from "./frame/Frame";
import { applyTheme } from "./frame/theme";
import { GroupsView } from "./groups/GroupsView";
import { PolicyView } from "./policy/PolicyView";
import { system } from "./theme";
import { WorkloadPage } from "./workloads/WorkloadPage";
import { WorkloadsView } from "./workloads/WorkloadsView";

applyTheme();

const router = createBrowserRouter([
  {
    path: "/",
    element: <Frame />,
    errorElement: <Fault />,
    children: [
      { index: true, element: <Navigate to="/check" replace /> },
      { path: "workloads", element: <WorkloadsView /> },
      { path: "workloads/:id", element: <WorkloadPage /> },
      { path: "groups/:name?", element: <GroupsView /> },
      { path: "flows", element: <FlowsView /> },
      { path: "flows/exporters", element: <ExportersView /> },
      { path: "policy", element: <PolicyView /> },
      { path: "check", element: <CheckView /> },
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
