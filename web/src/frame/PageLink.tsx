// A link to another page, which keeps what goes along from page to page.
import { chakra } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { useCarried } from "./address";

const Anchor = chakra(Link, {
  base: {
    textDecoration: "underline",
    textDecorationColor: "line",
    textUnderlineOffset: "3px",
    _hover: { textDecorationColor: "accent" },
  },
});

export function PageLink({ to, children }: { to: string; children: ReactNode }) {
  const along = useCarried().replace(/^\?/, "");
  return <Anchor to={along ? `${to}${to.includes("?") ? "&" : "?"}${along}` : to}>{children}</Anchor>;
}
