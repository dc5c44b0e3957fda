// Tokens of scripts and jobs: those there are, and a new one, which is shown once.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { api, caughtUp, problem, type Schemas } from "../api/client";
import { Link } from "../marks/Controls";
import { atMinute } from "../marks/words";
import { say } from "./toaster";

type Token = Schemas["Token"];

/** Those that are not revoked, of a kind; what each is for stands before when it was made. */
export function TokenList({ of, purpose }: { of: (t: Token) => boolean; purpose?: (t: Token) => string }) {
  const { data } = api.useQuery("get", "/api/v1/tokens");
  const revoke = api.useMutation("delete", "/api/v1/tokens/{id}");
  const end = async (t: Token) => {
    try {
      await revoke.mutateAsync({ params: { path: { id: t.id } } });
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
  return data
    ?.filter((t) => !t.revoked && of(t))
    .map((t) => (
      <Flex key={t.id} gap="10px" align="baseline" py="2px" data-token={t.name}>
        <Text fontWeight="600">{t.name}</Text>
        <Text color="soft" flex="1">
          {purpose && `${purpose(t)}; `}made {atMinute(t.made)} by {t.author}
          {t.used ? `, used ${atMinute(t.used)}` : ", never used"}
        </Text>
        <Link onClick={() => void end(t)}>Revoke</Link>
      </Flex>
    ));
}

/** A token that was just made. */
export function Secret({ secret }: { secret: string }) {
  return (
    <Box mt="6px" data-secret={secret}>
      <Text fontWeight="600">Copy it now. It is not shown again:</Text>
      <chakra.code fontFamily="mono" fontSize="12px" userSelect="all">
        {secret}
      </chakra.code>
    </Box>
  );
}
