import { Box, Text } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { api } from "../api/client";
import { Btn } from "../marks/Controls";
import { Spark } from "../marks/Marks";
import { atMinute, plural } from "../marks/words";
import { Findings } from "../drafting/Findings";
import { useCarried, useWindow } from "./address";
import { Chain, ChainLink, WhyTitle } from "./WhyParts";

/** A rule: who wrote it, what it decides. */
export function WhyRule({ line }: { line: number }) {
  const w = useWindow();
  const navigate = useNavigate();
  const carried = useCarried();
  const { data } = api.useQuery("get", "/api/v1/policy", { params: { query: w } });
  const s = data?.statements.find((x) => x.line === line);
  if (!data) return <Text color="soft">…</Text>;
  if (!s?.rule) return <Text color="soft">Line {line} no longer has a rule.</Text>;
  return (
    <Box>
      <WhyTitle>Rule on line {line}</WhyTitle>
      <Text fontWeight="500">{s.rule.sentence}</Text>
      {s.note && <Text color="soft">“{s.note}”</Text>}
      <Chain>
        <ChainLink>
          in <b>{s.rule.layer}</b>; rules above it decide first
        </ChainLink>
        <ChainLink>
          written by {s.author || "an unknown author"}
          {s.at && `, ${atMinute(s.at)}`}
        </ChainLink>
        <ChainLink>
          {s.hits
            ? `decides ${plural(s.hits, "conversation")} of the window between ${plural(s.pairs, "pair")}; last seen ${atMinute(s.last!)}`
            : "decides nothing that was seen in the window"}
          {s.spark && (
            <Box>
              <Spark values={s.spark} width={220} height={24} />
            </Box>
          )}
        </ChainLink>
      </Chain>
      <Box mt="8px">
        {s.findings && (
          <Findings
            revision={data.revision}
            line={line}
            findings={s.findings}
            about={s.rule?.sentence ?? s.text}
            indent="0"
          />
        )}
      </Box>
      <Btn mt="10px" onClick={() => void navigate(`/check${carried}${carried ? "&" : "?"}rule=${line}`)}>
        Show its conversations
      </Btn>
    </Box>
  );
}
