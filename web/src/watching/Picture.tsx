// What was carried stands above the line, what was held hangs below it; what got through,
// or was dropped though it may pass, is marked. A press shows the matters of that time.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useId, useRef } from "react";
import { counted } from "../frame/progress";
import { Mark } from "../marks/Marks";
import { atMinute, n, onDay } from "../marks/words";
import { binOf, type Period, type Watch } from "./watch";

const up = 50;
const down = 30;

type Props = { w: Watch; period: Period; at?: string; choose: (at: string | undefined) => void };

export function Picture({ w, period, at, choose }: Props) {
  const label = useId();
  const box = useRef<HTMLDivElement>(null);
  const most = Math.max(1, ...w.bins.map((b) => b.permitted + b.uncovered));
  const mostHeld = Math.max(1, ...w.bins.map((b) => b.held));
  const held = w.bins.some((b) => b.held > 0);
  const step = (from: number, by: number) => {
    const all = box.current?.querySelectorAll<HTMLElement>("button");
    all?.[Math.min(all.length - 1, Math.max(0, from + by))]?.focus();
  };
  const time = (t: string) => {
    const end = new Date(Date.parse(t) + binOf[period]);
    return period === "quarter" ? onDay(t) : `${atMinute(t)} – ${atMinute(end).split(", ").at(-1) ?? ""}`;
  };
  return (
    <Box mt="8px" position="relative">
      <Text id={label} fontSize="11px" color="soft" lineHeight="14px">
        carried
      </Text>
      <Flex ref={box} role="group" aria-labelledby={label} h={`${up + down + 34}px`} align="stretch">
        {w.bins.map((b, i) => {
          const carried = b.permitted + b.uncovered;
          const words = [
            `${n(b.permitted)} permitted and carried`,
            `${n(b.uncovered)} uncovered and carried`,
            `${n(b.held)} blocked`,
            b.leaks ? `${n(b.leaks)} got through` : "",
            b.chokes ? `${n(b.chokes)} dropped though permitted` : "",
            b.unclear ? `${n(b.unclear)} unclear, because a point changed in that hour` : "",
          ]
            .filter(Boolean)
            .join(", ");
          const on = at === b.at;
          return (
            <chakra.button
              key={b.at}
              type="button"
              tabIndex={
                i ===
                (at
                  ? Math.max(
                      0,
                      w.bins.findIndex((x) => x.at === at),
                    )
                  : w.bins.length - 1)
                  ? 0
                  : -1
              }
              aria-label={`${time(b.at)}: ${words}`}
              title={`${time(b.at)}\n${words.replaceAll(", ", "\n")}`}
              aria-pressed={on}
              data-bin={b.held}
              data-through={b.leaks}
              onClick={() => choose(on ? undefined : b.at)}
              onKeyDown={(e) => {
                if (e.key === "ArrowLeft") step(i, -1);
                else if (e.key === "ArrowRight") step(i, 1);
                else return;
                e.preventDefault();
              }}
              flex="1 1 0"
              minW="0"
              px={w.bins.length > 100 ? "0" : "1px"}
              cursor="pointer"
              position="relative"
              bg={on ? "tintStrong" : undefined}
              _hover={{ bg: "tint" }}
              _focusVisible={{ outline: "2px solid", outlineColor: "accent", outlineOffset: "-1px" }}
            >
              <Box position="absolute" left="0" right="0" top="0" h="15px" textAlign="center" overflow="hidden">
                {b.chokes > 0 && <Mark kind="choke" size={10} />}
              </Box>
              <Box position="absolute" left="1px" right="1px" bottom={`${down + 17}px`}>
                <Box
                  h={`${Math.round((b.uncovered / most) * up)}px`}
                  bg="openTint"
                  borderTopWidth={b.uncovered ? "1px" : 0}
                  borderColor="open"
                />
                <Box
                  h={`${Math.round((b.permitted / most) * up)}px`}
                  bg="permitTint"
                  borderTopWidth={carried ? "1px" : 0}
                  borderColor="permit"
                />
              </Box>
              <Box position="absolute" left="0" right="0" bottom={`${down + 16}px`} h="1px" bg="soft" />
              <Box
                position="absolute"
                left="1px"
                right="1px"
                top={`${up + 18}px`}
                h={b.held ? `${Math.max(2, Math.round((b.held / mostHeld) * down))}px` : 0}
                bg="reject"
              />
              <Box position="absolute" left="0" right="0" bottom="0" h="15px" textAlign="center" overflow="hidden">
                {b.leaks > 0 && <Mark kind="leak" size={10} />}
              </Box>
            </chakra.button>
          );
        })}
      </Flex>
      <Flex justify="space-between" fontSize="11px" color="soft" lineHeight="14px">
        <Text>{period === "hour" ? atMinute(w.from) : period === "day" ? atMinute(w.from) : onDay(w.from)}</Text>
        <Text color={held ? "reject" : "soft"}>
          {held ? "blocked below the line" : counted(w.sum) ? "none blocked" : ""}
        </Text>
        <Text>{period === "hour" || period === "day" ? atMinute(w.to) : onDay(w.to)}</Text>
      </Flex>
    </Box>
  );
}
