// Keys that work anywhere on a page. While somebody types into a field, only
// those with Ctrl or ⌘ do; undo is then the field's own.
import { useEffect, useRef } from "react";

export type Keys = Record<string, (e: KeyboardEvent) => void>;

export function typing(e: KeyboardEvent) {
  const t = e.target as HTMLElement | null;
  return !!t && (t.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(t.tagName));
}

function nameOf(e: KeyboardEvent) {
  const mod = e.ctrlKey || e.metaKey ? "mod+" : "";
  const shift = e.shiftKey && mod ? "shift+" : "";
  return mod + shift + (e.key.length === 1 ? e.key.toLowerCase() : e.key);
}

export function useKeys(keys: Keys, on = true) {
  const current = useRef(keys);
  useEffect(() => {
    current.current = keys;
  });
  useEffect(() => {
    if (!on) return;
    const listen = (e: KeyboardEvent) => {
      const name = nameOf(e);
      const f = current.current[name];
      if (!f || e.altKey || e.defaultPrevented) return;
      if (typing(e) && (!name.startsWith("mod+") || name.endsWith("z") || name.endsWith("y"))) return;
      if (document.querySelector("[role=dialog][data-state=open]") && name !== "Escape") return;
      e.preventDefault();
      f(e);
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, [on]);
}
