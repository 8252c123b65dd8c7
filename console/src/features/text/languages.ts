/** Which syntax an artifact's text has, by its kind and name; each is loaded when it is needed. */
import { type LanguageSupport, StreamLanguage } from "@codemirror/language";
import type { Extension } from "@codemirror/state";

type Loader = () => Promise<Extension>;

const legacy = async (name: "toml" | "properties" | "shell" | "r" | "gherkin" | "vb"): Promise<Extension> => {
  const modes = {
    toml: async () => (await import("@codemirror/legacy-modes/mode/toml")).toml,
    properties: async () => (await import("@codemirror/legacy-modes/mode/properties")).properties,
    shell: async () => (await import("@codemirror/legacy-modes/mode/shell")).shell,
    r: async () => (await import("@codemirror/legacy-modes/mode/r")).r,
    gherkin: async () => (await import("@codemirror/legacy-modes/mode/gherkin")).gherkin,
    vb: async () => (await import("@codemirror/legacy-modes/mode/vb")).vb,
  };
  return StreamLanguage.define(await modes[name]());
};

const support = (load: () => Promise<LanguageSupport>): Loader => load;
const json = support(async () => (await import("@codemirror/lang-json")).json());
const yaml = support(async () => (await import("@codemirror/lang-yaml")).yaml());
const xml = support(async () => (await import("@codemirror/lang-xml")).xml());
const python = support(async () => (await import("@codemirror/lang-python")).python());
const sql = support(async () => (await import("@codemirror/lang-sql")).sql());
const markdown = support(async () => (await import("@codemirror/lang-markdown")).markdown());
const html = support(async () => (await import("@codemirror/lang-html")).html());
const css = support(async () => (await import("@codemirror/lang-css")).css());
const javascript = support(async () => (await import("@codemirror/lang-javascript")).javascript({ typescript: true }));

const BY_SUFFIX: Record<string, Loader> = {
  json,
  jsonl: json,
  ndjson: json,
  ipynb: json,
  geojson: json,
  yaml,
  yml: yaml,
  cwl: yaml,
  xml,
  bpmn: xml,
  dmn: xml,
  svg: xml,
  xsd: xml,
  pmml: xml,
  xmi: xml,
  py: python,
  sql,
  md: markdown,
  html,
  htm: html,
  css,
  js: javascript,
  ts: javascript,
  tsx: javascript,
  mjs: javascript,
  toml: () => legacy("toml"),
  ini: () => legacy("properties"),
  properties: () => legacy("properties"),
  env: () => legacy("properties"),
  cfg: () => legacy("properties"),
  sh: () => legacy("shell"),
  r: () => legacy("r"),
  feature: () => legacy("gherkin"),
  bas: () => legacy("vb"),
  vb: () => legacy("vb"),
  vbs: () => legacy("vb"),
};

/** By suffix, else by how the text begins; nothing for plain text. */
export async function languageOf(path: string, text: string): Promise<Extension> {
  const suffix = path.split(".").pop()?.toLowerCase() ?? "";
  const found = BY_SUFFIX[suffix] ?? (/^\s*[[{]/.test(text) ? json : /^\s*<\?xml|^\s*<[a-zA-Z]/.test(text) ? xml : null);
  return found ? found() : [];
}
