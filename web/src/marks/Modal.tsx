import { CloseButton, Dialog, Portal } from "@chakra-ui/react";
import type { ReactNode } from "react";

type Props = {
  title: string;
  open: boolean;
  onClose: () => void;
  size: "sm" | "lg" | "xl";
  children: ReactNode;
  footer?: ReactNode;
};

/** Something that has to be finished or closed before going on. */
export function Modal({ title, open, onClose, size, children, footer }: Props) {
  return (
    <Dialog.Root open={open} onOpenChange={(e) => !e.open && onClose()} size={size}>
      <Portal>
        {/* While it fades away, what is behind it can be pressed already. */}
        <Dialog.Backdrop _closed={{ pointerEvents: "none" }} />
        <Dialog.Positioner>
          <Dialog.Content bg="sheet" fontSize="13px" lineHeight="1.45">
            <Dialog.Header>
              <Dialog.Title fontFamily="heading" fontWeight="500">
                {title}
              </Dialog.Title>
            </Dialog.Header>
            <Dialog.Body fontSize="13px" lineHeight="1.45" maxH="60vh" overflowY="auto">
              {children}
            </Dialog.Body>
            {footer && <Dialog.Footer>{footer}</Dialog.Footer>}
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
