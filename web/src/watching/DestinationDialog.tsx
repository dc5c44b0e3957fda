// Where messages go: a syslog receiver, a webhook, or mail.
import { chakra, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem, type Schemas } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, Entry, Field, ProblemNote, Switches } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import type { Destination } from "./notices";

type Settings = Schemas["Settings"];

const usual: Record<Settings["kind"], string> = {
  syslog: "logbook-01:514",
  webhook: "https://duty.saltmarsh.example/orchard",
  mail: "mail.saltmarsh.example:587",
};

export function DestinationDialog({ first, close }: { first?: Destination; close: (made?: string) => void }) {
  const put = api.useMutation("put", "/api/v1/watch/destinations/{name}");
  const drop = api.useMutation("delete", "/api/v1/watch/destinations/{name}");
  const trial = api.useMutation("post", "/api/v1/watch/destinations/{name}/trial");
  const [name, setName] = useState(first?.name ?? "");
  const [s, setS] = useState<Settings>(first?.settings ?? { kind: "syslog", address: "", transport: "tcp" });
  const [sure, setSure] = useState(false);
  const [wrong, setWrong] = useState<string>();
  const set = (change: Partial<Settings>) => setS({ ...s, ...change });
  const run = async (withTrial: boolean) => {
    setWrong(undefined);
    try {
      const body: Settings = { ...s, transport: s.kind === "syslog" ? s.transport || "tcp" : undefined };
      await put.mutateAsync({ params: { path: { name: name.trim() } }, body });
      if (withTrial) {
        await trial.mutateAsync({ params: { path: { name: name.trim() } } });
        say(`A test message is on its way to ${name.trim()}`);
      } else say(`Saved the destination ${name.trim()}`);
      await caughtUp(["watch"]);
      close(name.trim());
    } catch (e) {
      setWrong(problem(e));
    }
  };
  const forget = async () => {
    try {
      await drop.mutateAsync({ params: { path: { name: first!.name } } });
      await caughtUp(["watch"]);
      close();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  const secret = (field: "secret" | "password", label: string, hint: string) => (
    <Entry
      flex="1"
      type="password"
      autoComplete="off"
      aria-label={label}
      placeholder={first?.keeps ? "unchanged" : hint}
      value={s[field] ?? ""}
      set={(v) => set({ [field]: v })}
    />
  );
  const as = (
    <Field label="as">
      <Entry
        flex="1"
        aria-label="user"
        placeholder="user, if required"
        value={s.user ?? ""}
        set={(v) => set({ user: v })}
      />
      {secret("password", "password", "password")}
    </Field>
  );
  return (
    <Modal
      title={first ? first.name : "Destination for messages"}
      open
      onClose={() => close()}
      size="lg"
      footer={
        <>
          {first && (
            <Btn onClick={() => (sure ? void forget() : setSure(true))}>{sure ? "Really delete it" : "Delete it…"}</Btn>
          )}
          <Btn onClick={() => close()}>Cancel</Btn>
          <Btn disabled={!name.trim() || !s.address} onClick={() => void run(true)}>
            Save and send a test
          </Btn>
          <Btn primary loading={put.isPending} disabled={!name.trim() || !s.address} onClick={() => void run(false)}>
            Save
          </Btn>
        </>
      }
    >
      {!first && (
        <Field label="name">
          <Entry flex="1" autoFocus placeholder="duty" aria-label="name" value={name} set={setName} />
        </Field>
      )}
      <Field label="it is">
        <Switches
          label="kind of destination"
          options={[
            { value: "syslog", shown: "Syslog" },
            { value: "webhook", shown: "Webhook" },
            { value: "mail", shown: "Mail" },
          ]}
          on={[s.kind]}
          toggle={(kind) => set({ kind })}
        />
        {s.kind === "syslog" && (
          <Switches
            label="transport"
            options={[
              { value: "udp", shown: "UDP" },
              { value: "tcp", shown: "TCP" },
              { value: "tls", shown: "TLS" },
            ]}
            on={[s.transport || "tcp"]}
            toggle={(transport) => set({ transport })}
          />
        )}
      </Field>
      <Field label="at">
        <Entry
          flex="1"
          aria-label="address"
          placeholder={usual[s.kind]}
          value={s.address}
          set={(v) => set({ address: v })}
        />
      </Field>
      {s.kind === "webhook" && (
        <>
          <Field label="key">
            {secret("secret", "key", "the receiver uses it to verify that a message comes from this server")}
          </Field>
          {as}
        </>
      )}
      {s.kind === "mail" && (
        <>
          <Field label="from">
            <Entry
              flex="1"
              aria-label="from"
              placeholder="orchard@saltmarsh.example"
              value={s.from ?? ""}
              set={(v) => set({ from: v.trim() })}
            />
          </Field>
          <Field label="to">
            <Entry
              flex="1"
              aria-label="to"
              placeholder="duty@saltmarsh.example; separate several with spaces"
              value={(s.to ?? []).join(" ")}
              set={(v) => set({ to: v.split(/[\s,;]/).filter((x, i, all) => x || i === all.length - 1) })}
              onBlur={() => set({ to: (s.to ?? []).filter(Boolean) })}
            />
          </Field>
          {as}
          <Field label="">
            <chakra.label>
              <input type="checkbox" checked={!!s.plain} onChange={(e) => set({ plain: e.target.checked })} /> send even
              if the server offers no encryption
            </chakra.label>
          </Field>
        </>
      )}
      {(s.kind !== "syslog" || s.transport === "tls") && (
        <Field label="trust">
          <chakra.textarea
            aria-label="certificates"
            placeholder="PEM certificates to verify the receiver with; empty: those of the system"
            value={s.ca ?? ""}
            onChange={(e) => set({ ca: e.target.value })}
            flex="1"
            rows={3}
            fontFamily="mono"
            fontSize="11px"
            bg="sheet"
            borderWidth="1px"
            borderColor="line"
            borderRadius="5px"
            p="5px"
          />
        </Field>
      )}
      <Text mt="8px" color="soft" fontSize="12px">
        Messages are queued until the receiver accepts them, also across a restart. Failed messages are retried.
      </Text>
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
    </Modal>
  );
}
