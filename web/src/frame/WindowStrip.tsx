// One window for the whole application, chosen by brushing the strip of
// traffic volume, or with the arrow keys on its handles.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { api } from "../api/client";
import { Link } from "../marks/Controls";
import { n, onDay, plural } from "../marks/words";
import { useAddress, useWindow } from "./address";

const hour = 3_600_000;
const height = 34;

export function WindowStrip() {
  const w = useWindow();
  const { change } = useAddress();
  const all = api.useQuery("get", "/api/v1/flows/strip", { params: { query: { bins: 112 } } });
  const inside = api.useQuery("get", "/api/v1/flows/strip", { params: { query: { ...w, bins: 1 } } });
  const exporters = api.useQuery("get", "/api/v1/exporters", {}, { refetchInterval: 5000, staleTime: 0 });
  const rate = exporters.data?.collectors.filter((c) => !c.quiet).reduce((s, c) => s + c.rate, 0) ?? 0;
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(760);
  useEffect(() => {
    if (!box.current) return;
    const o = new ResizeObserver(([e]) => e && setWidth(e.contentRect.width));
    o.observe(box.current);
    return () => o.disconnect();
  }, []);
  const strip = all.data;
  const start = strip?.from ? Date.parse(strip.from) : 0;
  const end = strip?.to ? Date.parse(strip.to) : 0;
  const from = w.from ? Math.max(start, Date.parse(w.from)) : start;
  const to = w.to ? Math.min(end, Date.parse(w.to)) : end;
  const whole = !w.from && !w.to;
  const x = (t: number) => (end > start ? ((t - start) / (end - start)) * width : 0);
  const at = (px: number) =>
    Math.round((start + (Math.min(width, Math.max(0, px)) / width) * (end - start)) / hour) * hour;
  const put = (a: number, b: number) => {
    const lo = Math.max(start, Math.min(a, b));
    const hi = Math.min(end, Math.max(a, b));
    if (hi - lo < hour) return;
    const iso = (t: number) => new Date(t).toISOString().replace(".000Z", "Z");
    change({ from: lo <= start ? null : iso(lo), to: hi >= end ? null : iso(hi) }, { replace: true });
  };
  const [drag, setDrag] = useState<[number, number]>();
  const shown = drag ? [Math.min(at(drag[0]), at(drag[1])), Math.max(at(drag[0]), at(drag[1]))] : [from, to];
  const top = Math.max(1, ...(strip?.bins ?? []).map((b) => b.permit + b.reject + b.uncovered));
  const days = Math.round((shown[1]! - shown[0]!) / (24 * hour));
  return (
    <Flex
      as="section"
      aria-label="the window"
      h="46px"
      align="center"
      px="20px"
      gap="14px"
      borderBottomWidth="1px"
      borderColor="line2"
      fontSize="12px"
      flexShrink={0}
      _print={{ display: "none" }}
    >
      <Box w={{ base: "96px", md: "150px" }} flexShrink={0}>
        {strip?.from ? (
          <>
            <b>
              {onDay(new Date(shown[0]!))} – {onDay(new Date(shown[1]! - 1))}
            </b>{" "}
            <chakra.span color="soft">
              {days >= 1 ? plural(days, "day") : plural(Math.round((shown[1]! - shown[0]!) / hour), "hour")}
            </chakra.span>
          </>
        ) : (
          <Text color="soft">No traffic yet</Text>
        )}
      </Box>
      <Box
        ref={box}
        flex="1"
        minW="0"
        overflowX="clip"
        h={`${height}px`}
        position="relative"
        cursor="crosshair"
        touchAction="none"
        onPointerDown={(e) => {
          if (!strip?.from || (e.target as HTMLElement).getAttribute("role") === "slider") return;
          const px = e.clientX - e.currentTarget.getBoundingClientRect().left;
          e.currentTarget.setPointerCapture(e.pointerId);
          setDrag([px, px]);
        }}
        onPointerMove={(e) => drag && setDrag([drag[0], e.clientX - e.currentTarget.getBoundingClientRect().left])}
        onPointerUp={() => {
          if (drag && Math.abs(drag[0] - drag[1]) > 4) put(at(drag[0]), at(drag[1]));
          setDrag(undefined);
        }}
      >
        <svg width={width} height={height} aria-hidden>
          {(strip?.bins ?? []).map((b, i, bins) => {
            const bw = width / bins.length;
            const t = Date.parse(b.at);
            const total = b.permit + b.reject + b.uncovered;
            const h = (total / top) * (height - 4);
            const u = (b.uncovered / top) * (height - 4);
            const on = t >= shown[0]! - hour / 2 && t < shown[1]!;
            return (
              <g key={b.at}>
                <chakra.rect
                  x={`${i * bw}px`}
                  y={`${height - h + u}px`}
                  width={`${Math.max(0.5, bw - 1.2)}px`}
                  height={`${h - u}px`}
                  fill={on ? "volume" : "volumeFaint"}
                />
                <chakra.rect
                  x={`${i * bw}px`}
                  y={`${height - h}px`}
                  width={`${Math.max(0.5, bw - 1.2)}px`}
                  height={`${u}px`}
                  fill={on ? "open" : "openTint"}
                />
              </g>
            );
          })}
          {strip?.from && (
            <chakra.rect
              x={`${x(shown[0]!) + 0.5}px`}
              y="0.5px"
              width={`${Math.max(1, x(shown[1]!) - x(shown[0]!) - 1)}px`}
              height={`${height - 1}px`}
              fill="none"
              stroke="accent"
              rx="2"
            />
          )}
        </svg>
        {strip?.from &&
          ([0, 1] as const).map((side) => (
            <chakra.div
              key={side}
              role="slider"
              tabIndex={0}
              aria-label={side === 0 ? "start of the window" : "end of the window"}
              aria-valuemin={start}
              aria-valuemax={end}
              aria-valuenow={shown[side]}
              aria-valuetext={onDay(new Date(shown[side]!))}
              position="absolute"
              left={`${x(shown[side]!) - 3}px`}
              top="9px"
              w="5px"
              h="16px"
              borderRadius="2px"
              bg="accent"
              cursor="ew-resize"
              onPointerDown={(e) => e.currentTarget.setPointerCapture(e.pointerId)}
              onPointerMove={(e) => {
                if (!e.currentTarget.hasPointerCapture(e.pointerId) || !box.current) return;
                const t = at(e.clientX - box.current.getBoundingClientRect().left);
                put(side === 0 ? t : from, side === 0 ? to : t);
              }}
              onKeyDown={(e) => {
                const step =
                  (e.shiftKey ? 24 : 6) * hour * (e.key === "ArrowLeft" ? -1 : e.key === "ArrowRight" ? 1 : 0);
                if (step) {
                  e.preventDefault();
                  put(side === 0 ? from + step : from, side === 0 ? to : to + step);
                }
              }}
            />
          ))}
      </Box>
      <Box color="soft" textAlign="right" w={{ base: "130px", md: "200px" }} flexShrink={0} lineHeight="1.3">
        {plural(inside.data?.conversations ?? 0, "conversation")}
        <br />
        {whole ? (
          rate >= 0.5 ? (
            `live, ${n(rate)} records/s`
          ) : (
            `${n(inside.data?.records ?? 0)} conversation-hours`
          )
        ) : (
          <Link onClick={() => change({ from: null, to: null })}>show the whole time</Link>
        )}
      </Box>
    </Flex>
  );
}
