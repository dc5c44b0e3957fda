// How the file is written: guessed, shown, changed here, saved for the command line.
import { Flex, Text } from "@chakra-ui/react";
import { Link, Select, Typed } from "../marks/Controls";
import type { Form } from "./form";
import type { Importing, Kind } from "./useImport";

const delimiters: Record<string, string> = { ",": "comma", ";": "semicolon", "\t": "tab", "|": "bar", " ": "blank" };
const encodings: Record<string, string> = {
  "utf-8": "UTF-8",
  "windows-1252": "Latin-1 (Windows-1252)",
  "utf-16le": "UTF-16, little end first",
  "utf-16be": "UTF-16, big end first",
};
const zones = ["UTC", ...(typeof Intl.supportedValuesOf === "function" ? Intl.supportedValuesOf("timeZone") : [])];

export function FormPart({ kind, im }: { kind: Kind; im: Importing }) {
  const f = im.form;
  const json = !!f.pointer;
  const select = (label: string, name: keyof Form, options: Record<string, string>) => (
    <Named label={label}>
      <Select
        aria-label={label}
        value={String(f[name] ?? "")}
        onChange={(e) => im.sayForm({ [name]: e.target.value })}
        h="23px"
      >
        {Object.entries(options).map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </Select>
    </Named>
  );
  return (
    <Flex gap="12px" rowGap="4px" wrap="wrap" align="center" fontSize="12px" mb="6px" data-form>
      {json ? (
        <Named label="list at">
          <Typed
            {...small}
            w="110px"
            aria-label="list at"
            value={f.pointer ?? ""}
            set={(pointer) => im.sayForm({ pointer })}
          />
        </Named>
      ) : (
        <>
          {select("delimiter", "delimiter", delimiters)}
          <Named label="header on line">
            <Typed
              {...small}
              aria-label="header on line"
              value={String(f.header ?? 1)}
              w="44px"
              set={(v) => im.sayForm({ header: Math.max(1, Number(v) || 1) })}
            />
          </Named>
        </>
      )}
      {select("encoding", "encoding", encodings)}
      {kind === "flows" && (
        <>
          <Named label="times without a zone are">
            <Typed
              {...small}
              aria-label="zone"
              value={f.zone || "UTC"}
              w="120px"
              list="zones"
              set={(zone) => im.sayForm({ zone })}
            />
            <datalist id="zones">
              {zones.map((z) => (
                <option key={z} value={z} />
              ))}
            </datalist>
          </Named>
          {im.preview?.first?.some((row) => row.some((c) => /^\d+\/\d+\/\d+/.test(c))) &&
            select("4/5/2026 is", "days", { "": "4 May", "day-first": "4 May", "month-first": "April 5" })}
        </>
      )}
      <Link ml="auto" onClick={() => save(kind, f)}>
        save this mapping
      </Link>
    </Flex>
  );
}

const small = { h: "23px", fontSize: "12px" } as const;

function Named({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <Flex gap="5px" align="center">
      <Text color="soft">{label}</Text>
      {children}
    </Flex>
  );
}

/** What the command line takes with --map. */
function save(kind: Kind, form: Form) {
  const url = URL.createObjectURL(
    new Blob([JSON.stringify({ kind, ...form }, null, 2) + "\n"], { type: "application/json" }),
  );
  const a = document.createElement("a");
  a.href = url;
  a.download = `${kind}-map.json`;
  a.click();
  URL.revokeObjectURL(url);
}
