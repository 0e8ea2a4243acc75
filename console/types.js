// Writes the types of what the API answers and takes, from its OpenAPI document, to
// src/support/schema.ts: what has a name there, as the console asks by addresses of its own.
// With `--fresh` nothing is written, and it fails where they are not those of the document.
import { readFile, writeFile } from "node:fs/promises";
import openapiTS, { astToString } from "openapi-typescript";
import { format, resolveConfig } from "prettier";

const place = new URL("src/support/schema.ts", import.meta.url);
const document = JSON.parse(await readFile(new URL("../docs/openapi.json", import.meta.url), "utf8"));
const nodes = await openapiTS(
  { ...document, paths: {} },
  { propertiesRequiredByDefault: true, defaultNonNullable: false, silent: true },
);
const named = nodes.filter((node) => node.name?.text === "components");
const head = "// Made by `npm run types` from docs/openapi.json; changes here are lost.\n\n";
const style = { ...(await resolveConfig(place)), parser: "typescript" };
const text = await format(head + astToString(named), style);

if (!process.argv.includes("--fresh")) {
  await writeFile(place, text);
} else if ((await readFile(place, "utf8")) !== text) {
  console.error("src/support/schema.ts is not what docs/openapi.json says: run `npm run types`.");
  process.exit(1);
}
