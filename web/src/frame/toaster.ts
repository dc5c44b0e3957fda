import { createToaster } from "@chakra-ui/react";

export const toaster = createToaster({ placement: "bottom-start", pauseOnPageIdle: true, max: 3 });

/** Says briefly what was done, or what went wrong. */
export function say(title: string, type: "info" | "error" = "info") {
  queueMicrotask(() => toaster.create({ title, type, duration: type === "error" ? 9000 : 4000 }));
}
