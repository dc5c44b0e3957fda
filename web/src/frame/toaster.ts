import { createToaster } from "@chakra-ui/react";

/** Above the strips at the foot of a view, whose buttons a message must not cover. */
export const toaster = createToaster({
  placement: "bottom-start",
  offsets: { left: "16px", right: "16px", top: "16px", bottom: "64px" },
  pauseOnPageIdle: true,
  max: 3,
});

/** Says briefly what was done, or what went wrong; action is a way back. */
export function say(title: string, type: "info" | "error" = "info", action?: { label: string; onClick: () => void }) {
  queueMicrotask(() => toaster.create({ title, type, duration: type === "error" || action ? 9000 : 4000, action }));
}
