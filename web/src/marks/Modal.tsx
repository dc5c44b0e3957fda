import { CloseButton, Dialog, Portal, Text } from "@chakra-ui/react";
import { type KeyboardEvent, type ReactNode, useRef, useState } from "react";

type Props = {
  title: string;
  open: boolean;
  onClose: () => void;
  size: "sm" | "lg" | "xl";
  children: ReactNode;
  footer?: ReactNode;
};

/** Something that has to be finished or closed before going on. Ctrl Enter presses
 *  its main button; Esc asks before it throws away what was written. */
export function Modal({ title, open, onClose, size, children, footer }: Props) {
  const written = useRef(false);
  const content = useRef<HTMLDivElement>(null);
  const [warned, setWarned] = useState(false);
  const reset = () => {
    written.current = false;
    setWarned(false);
  };
  const close = () => {
    if (written.current && !warned) {
      setWarned(true);
      return;
    }
    reset();
    onClose();
  };
  const submit = (e: KeyboardEvent) => {
    if (e.key !== "Enter" || !(e.ctrlKey || e.metaKey)) return;
    const main = content.current?.querySelector<HTMLButtonElement>("button[data-primary]:not(:disabled)");
    if (!main) return;
    e.preventDefault();
    e.stopPropagation();
    main.click();
  };
  return (
    <Dialog.Root open={open} onOpenChange={(e) => (e.open ? reset() : close())} onExitComplete={reset} size={size}>
      <Portal>
        {/* While it fades away, what is behind it can be pressed already. */}
        <Dialog.Backdrop _closed={{ pointerEvents: "none" }} />
        <Dialog.Positioner>
          <Dialog.Content
            ref={content}
            bg="sheet"
            fontSize="13px"
            lineHeight="1.45"
            onKeyDown={submit}
            onInput={(e) => {
              const t = e.target as HTMLElement;
              if (t.matches("textarea, input:not([type=checkbox]):not([type=file]), [contenteditable]"))
                written.current = true;
            }}
          >
            <Dialog.Header>
              <Dialog.Title fontFamily="heading" fontWeight="500">
                {title}
              </Dialog.Title>
            </Dialog.Header>
            <Dialog.Body fontSize="13px" lineHeight="1.45" maxH="60vh" overflowY="auto">
              {children}
            </Dialog.Body>
            {(footer || warned) && (
              <Dialog.Footer>
                {warned && (
                  <Text color="reject" mr="auto" role="alert">
                    Closing discards what you wrote. Press again to close.
                  </Text>
                )}
                {footer}
              </Dialog.Footer>
            )}
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
