import { describe, expect, test } from "vitest";
import { recognise, startOf } from "./recognise";

const of = (text: string) => recognise(new TextEncoder().encode(text));

describe("recognise", () => {
  test.each([
    ["start,src,dst,proto,dport\n2026-01-01T00:00:00Z,10.0.0.1,10.0.0.2,tcp,443", "flows"],
    ["Source IP;Destination IP;Destination Port;Bytes", "flows"],
    ["Quell-Adresse;Ziel-Adresse;Port", "flows"],
    ['{"src": "10.0.0.1", "dst": "10.0.0.2", "dport": 443}', "flows"],
    ["id,name,addresses,tag:app\nm-1,store-1,10.0.0.1,booking", "workloads"],
    ["# from the plan\nHostname\tIP\tOS", "workloads"],
    ['[{"id": "m-1", "addresses": ["10.0.0.1"]}]', "workloads"],
    ["# policy\ngroup store = app in (store)\npermit store -> store on tcp/443", "policy"],
    ['{"format":"lucid-orchard-estate","version":1}', "estate"],
    ["\uFEFFid,name\nm-1,store-1", "workloads"],
  ])("%s", (text, kind) => expect(of(text)).toBe(kind));

  test("a capture and an IPFIX file", () => {
    expect(recognise(new Uint8Array([0xd4, 0xc3, 0xb2, 0xa1, 2, 0]))).toBe("flows");
    expect(recognise(new Uint8Array([0x0a, 0x0d, 0x0d, 0x0a]))).toBe("flows");
    expect(recognise(new Uint8Array([0, 10, 0, 40]))).toBe("flows");
  });

  test("nothing is guessed", () => {
    expect(of("")).toBeUndefined();
    expect(of("one,two,three")).toBeUndefined();
    expect(of("Dear reader")).toBeUndefined();
  });

  test("a packed file is read through", async () => {
    const packed = new Blob(["id,name,addresses\nm-1,store-1,10.0.0.1"])
      .stream()
      .pipeThrough(new CompressionStream("gzip"));
    const file = new File([await new Response(packed).arrayBuffer()], "list.csv.gz");
    expect(recognise(await startOf(file))).toBe("workloads");
  });
});
