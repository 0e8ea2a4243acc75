import { expect, it } from "vitest";
import { placeAt, sectionOf } from "./tomlAt";

const TEXT = '[service]\nlisten = "x"\n\n[gate.tide]\nse\nsettle = "5s"\n[gate.tide.merge]\ninto = "a"\n';
const at = (words: string) => placeAt(TEXT, TEXT.indexOf(words) + words.length);

it("knows section and key at the cursor", () => {
  expect(at("lis")).toEqual({ section: "[service]", key: "listen", writing: true });
  expect(at('listen = "')).toEqual({ section: "[service]", key: "listen", writing: false });
  expect(at("\nse")).toEqual({ section: "[gate.NAME]", key: "se", writing: true });
  expect(at("into")).toEqual({ section: "[gate.NAME.merge]", key: "into", writing: true });
  expect(placeAt("", 0)).toEqual({ section: "", key: "", writing: true });
  expect(sectionOf("gate.tide.merge.column.time")).toBe("[gate.NAME.merge.column.time]");
});
