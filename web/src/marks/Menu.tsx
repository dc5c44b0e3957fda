import { Menu as M, Portal } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { Btn } from "./Controls";

type Item = { shown: ReactNode; run?: () => void; href?: string };

/** A few more things that can be done, behind one button. */
export function Menu({ label, items }: { label: string; items: Item[] }) {
  return (
    <M.Root>
      <M.Trigger asChild>
        <Btn>{label} ▾</Btn>
      </M.Trigger>
      <Portal>
        <M.Positioner>
          <M.Content bg="sheet" fontSize="12.5px">
            {items.map((item, i) => (
              <M.Item key={i} value={String(i)} onClick={item.run} asChild={!!item.href}>
                {item.href ? (
                  <a href={item.href} download>
                    {item.shown}
                  </a>
                ) : (
                  item.shown
                )}
              </M.Item>
            ))}
          </M.Content>
        </M.Positioner>
      </Portal>
    </M.Root>
  );
}
