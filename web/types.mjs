// Makes src/api/schema.d.ts from the server's description. All errors of all
// operations are one type, which is said once for each.
import { readFile, writeFile } from "node:fs/promises";
import openapiTS, { astToString } from "openapi-typescript";

const api = JSON.parse(await readFile("src/api/openapi.json", "utf8"));
for (const operations of Object.values(api.paths)) {
  for (const { responses } of Object.values(operations)) {
    for (const status of Object.keys(responses)) {
      if (Number(status) < 400) continue;
      responses.default ??= responses[status];
      delete responses[status];
    }
  }
}
await writeFile("src/api/schema.d.ts", "// Made by `make types`. Do not change it.\n" + astToString(await openapiTS(api)));
