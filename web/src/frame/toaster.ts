import { createToaster } from "@chakra-ui/react";

export const toaster = createToaster({ placement: "bottom-start", pauseOnPageIdle: true, max: 3 });

/** Says briefly what was done, or what went wrong; action is a way back. */
export function say(title: string, type: "info" | "error" = "info", action?: { label: string; onClick: () => void }) {
  queueMicrotask(() => toaster.create({ title, type, duration: type === "error" || action ? 9000 : 4000, action }));
}
