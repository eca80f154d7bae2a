// The client's types, from the server's document. On the wire a time is ISO 8601; the page counts in milliseconds, and
// api/wire.ts turns one into the other by the names that are gathered here.
import { writeFileSync } from "node:fs";
import openapiTS, { astToString, COMMENT_HEADER } from "openapi-typescript";
import ts from "typescript";

const NUMBER = ts.factory.createKeywordTypeNode(ts.SyntaxKind.NumberKeyword);
const NULL = ts.factory.createLiteralTypeNode(ts.factory.createNull());
const named = { moment: new Set(), plain: new Set(), free: new Set(), shaped: new Set(), times: new Set() };
// Parameters go one way only: the name of one may be that of a text elsewhere.
const requested = new Set();

/** What a field holds: a time, another value, a row of times, a row whose names are free, or one with stated names. */
function kindOf(schema) {
  if (schema.format === "date-time") return "moment";
  if (schema.type === "array") return kindOf(schema.items);
  if (schema.$ref || schema.allOf || schema.oneOf || schema.properties) return "shaped";
  if (schema.additionalProperties)
    return schema.additionalProperties.format === "date-time" ? "times" : "free";
  return "plain";
}

function transform(schema, { path }) {
  for (const [name, field] of Object.entries(schema.properties ?? {})) named[kindOf(field)].add(name);
  if (path.includes("/parameters/")) {
    const name = path.split("/").at(-1);
    if (kindOf(schema) === "moment") requested.add(name);
    else named[kindOf(schema)].add(name);
  }
  if (schema.format === "date-time")
    return schema.nullable ? ts.factory.createUnionTypeNode([NUMBER, NULL]) : NUMBER;
}

const source = new URL("../docs/openapi.yaml", import.meta.url);
const ast = await openapiTS(source, { defaultNonNullable: false, transform });
const { moment, plain, free, shaped, times } = named;
// A row may be free in one place and have its names in another: it is then looked through, by names.
for (const name of shaped) free.delete(name);
const isElse = (name) => plain.has(name) || free.has(name) || shaped.has(name);
const unclear = [...[...moment].filter((name) => isElse(name) || times.has(name)), ...[...times].filter(isElse)];
if (unclear.length) {
  console.error(`api: ${unclear.join(", ")} are of one kind in one place and of another elsewhere; rename one of them`);
  process.exit(1);
}
const listed = (names) => [...names].sort().map((name) => `  "${name}",\n`).join("");
const folder = process.argv[2] ?? "src/api";
writeFileSync(`${folder}/schema.d.ts`, COMMENT_HEADER + astToString(ast));
writeFileSync(
  `${folder}/names.ts`,
  `/** Made by \`./run api\`. Fields that hold a time, parameters that are one, rows of times under free names, and rows whose content is free. */\n` +
    `export const MOMENTS: ReadonlySet<string> = new Set([\n${listed(moment)}]);\n\n` +
    `export const MOMENT_PARAMETERS: ReadonlySet<string> = new Set([\n${listed(requested)}]);\n\n` +
    `export const TIMES: ReadonlySet<string> = new Set([\n${listed(times)}]);\n\n` +
    `export const FREE: ReadonlySet<string> = new Set([\n${listed(free)}]);\n`,
);
