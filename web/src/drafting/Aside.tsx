import { Box, chakra, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { useNavigate } from "react-router";
import { useCarried, useWhy } from "../frame/address";
import { Link } from "../marks/Controls";
import { n, plural } from "../marks/words";

/** What was set aside, by reason: never dropped in silence. */
export function Aside({ list }: { list: Schemas["Aside"][] }) {
  const [open, setOpen] = useState<string>();
  const { show } = useWhy();
  const carried = useCarried();
  const navigate = useNavigate();
  if (list.length === 0) return null;
  return (
    <Box px="16px" py="8px" data-aside>
      <Text fontFamily="heading" fontSize="14px">
        Set aside
      </Text>
      {list.map((a) => (
        <Box key={a.reason}>
          <Link onClick={() => setOpen(open === a.reason ? undefined : a.reason)} aria-expanded={open === a.reason}>
            {a.reason}: {plural(a.conversations, "conversation")}
          </Link>{" "}
          <chakra.span color="soft">{a.words}</chakra.span>{" "}
          <Link
            data-settle-aside={a.reason}
            title="In the ledger, select rows, then permit them, reject them, or mark them as rightly rejected"
            onClick={() => {
              const q = new URLSearchParams(carried);
              q.set("aside", a.reason);
              q.append("verdict", "uncovered");
              void navigate(`/check?${q}`);
            }}
          >
            review them…
          </Link>
          {open === a.reason && (
            <Box pl="10px" maxH="180px" overflowY="auto">
              {a.examples.map((c) => (
                <Box key={c.client.addr + c.server.addr + c.service + c.first}>
                  <Link
                    onClick={() =>
                      show({
                        kind: "flow",
                        client: c.client.addr,
                        server: c.server.addr,
                        service: c.service,
                        at: c.first,
                      })
                    }
                    textDecoration="none"
                  >
                    {c.client.name} → {c.server.name} <chakra.span color="soft">{c.service}</chakra.span>
                  </Link>{" "}
                  {c.signs && (
                    <chakra.span color="soft" fontSize="11.5px">
                      {c.signs}
                    </chakra.span>
                  )}
                </Box>
              ))}
              {a.conversations > a.examples.length && (
                <Text color="soft">and {n(a.conversations - a.examples.length)} more</Text>
              )}
            </Box>
          )}
        </Box>
      ))}
    </Box>
  );
}
