import { mount } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import CodeText from "./CodeText.vue";

const html = (text: string) => mount(CodeText, { props: { text } }).html();

describe("a sentence with names and commands", () => {
  it("sets what stands between backticks as code", () => {
    expect(html("changed the setting `address`: moved")).toBe(
      "<span>changed the setting <code>address</code>: moved</span>",
    );
  });

  it("leaves an odd backtick where it stands", () => {
    expect(html("ran `cat` and `")).toBe("<span>ran <code>cat</code> and `</span>");
    expect(html("plain")).toBe("<span>plain</span>");
  });

  it("shows what others wrote as text", () => {
    expect(html("ran `<img src=x onerror=1>`")).toContain("<code>&lt;img src=x onerror=1&gt;</code>");
  });
});
