// What is wrong with the server itself: a full disk, a database that is away. On
// every page, because everybody's work hangs on it.
import { Box, chakra, Text } from "@chakra-ui/react";
import { api, type Schemas } from "../api/client";
import { atMinute, utc } from "../marks/words";

export function Troubles() {
  const { data } = api.useQuery("get", "/api/v1/troubles", {}, { refetchInterval: 4000, staleTime: 0, retry: false });
  if (!data || data.length === 0) return null;
  const grave = data.filter((t) => t.grave);
  return (
    <Box
      px="20px"
      py="5px"
      fontSize="12px"
      borderBottomWidth="1px"
      borderColor="line2"
      flexShrink={0}
      maxH="120px"
      overflowY="auto"
      role={grave.length > 0 ? "alert" : "status"}
      tabIndex={0}
      aria-label="troubles"
      _print={{ display: "none" }}
    >
      {[...grave, ...data.filter((t) => !t.grave)].map((t) => (
        <One key={t.kind + t.words} t={t} />
      ))}
    </Box>
  );
}

function One({ t }: { t: Schemas["Trouble"] }) {
  return (
    <Text color={t.grave ? "reject" : "soft"} data-trouble={t.kind}>
      <chakra.b fontWeight={t.grave ? "600" : "400"}>{t.words}</chakra.b>{" "}
      {t.since && <chakra.span title={utc(t.since)}>Since {atMinute(t.since)}.</chakra.span>} {t.todo}
    </Text>
  );
}
