import { describe, expect, it } from "vitest";
import { noteText, quote } from "./quote";

describe("names in policy text", () => {
  it("leaves words that mean themselves", () => {
    for (const word of ["live", "booking-entry", "a_1", "0x", ":x", "10.0.0.0/8"]) expect(quote(word)).toBe(word);
  });
  it("quotes keywords, blanks and what is no word", () => {
    expect(quote("log")).toBe('"log"');
    expect(quote("icmp6")).toBe('"icmp6"');
    expect(quote("cost centre")).toBe('"cost centre"');
    expect(quote("-x")).toBe('"-x"');
    expect(quote("")).toBe('""');
    expect(quote("Ärger")).toBe('"Ärger"');
  });
  it("knows only the two escapes of the language", () => {
    expect(quote('a"b\\c')).toBe('"a\\"b\\\\c"');
    expect(quote("a\nb")).toBe('"a b"');
    expect(quote("a\tb")).toBe('"a\tb"');
  });
  it("writes a note, or nothing", () => {
    expect(noteText(undefined)).toBe("");
    expect(noteText("")).toBe("");
    expect(noteText("Until the move")).toBe(' "Until the move"');
  });
});
