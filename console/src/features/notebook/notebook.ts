/** A notebook as cells with outputs, whatever form of the format its program writes (nbformat 3 and 4); pure. */

export type Output =
  | { form: "text"; text: string; isError: boolean }
  | { form: "html"; text: string }
  | { form: "markdown"; text: string }
  | { form: "picture"; src: string };

export interface Cell {
  type: "code" | "markdown" | "raw";
  source: string;
  /** How often the kernel had run something when it ran this; null if it never did. */
  count: number | null;
  outputs: Output[];
}

export interface Notebook {
  language: string;
  cells: Cell[];
}

type Json = Record<string, unknown>;
const isJson = (value: unknown): value is Json => typeof value === "object" && value !== null && !Array.isArray(value);
const list = (value: unknown): Json[] => (Array.isArray(value) ? value.filter(isJson) : []);

/** Texts are one string or a list of lines. */
function joined(value: unknown): string {
  if (typeof value === "string") return value;
  return Array.isArray(value) ? value.filter((line) => typeof line === "string").join("") : "";
}

/** Read a notebook from its text; throws an error that says what is wrong if the text does not hold one. */
export function readNotebook(text: string): Notebook {
  const found: unknown = JSON.parse(text);
  if (!isJson(found)) throw new Error("it holds no cells");
  const about = isJson(found.metadata) ? found.metadata : {};
  const [kernel, info] = [about.kernelspec, about.language_info].map((one) => (isJson(one) ? one : {}));
  const named = [info?.name, kernel?.language].find((one) => typeof one === "string" && one !== "");
  const cells = Array.isArray(found.cells) ? list(found.cells) : list(found.worksheets).flatMap((sheet) => list(sheet.cells));
  return { language: String(named ?? "python").toLowerCase(), cells: cells.map(cellOf) };
}

function cellOf(cell: Json): Cell {
  const kind = String(cell.cell_type ?? "raw");
  const count = cell.execution_count ?? cell.prompt_number;
  const level = typeof cell.level === "number" ? `${"#".repeat(cell.level)} ` : "";
  return {
    type: kind === "code" ? "code" : kind === "markdown" || kind === "heading" ? "markdown" : "raw",
    source: `${kind === "heading" ? level : ""}${joined(cell.source ?? cell.input)}`,
    count: typeof count === "number" ? count : null,
    outputs: list(cell.outputs).flatMap(outputsOf),
  };
}

const PICTURES: [string, string][] = [
  ["image/png", "png"],
  ["image/jpeg", "jpeg"],
  ["image/gif", "gif"],
  ["image/webp", "webp"],
];

/** The richest form of each output: a picture, a page, text with marks, plain text. */
function outputsOf(output: Json): Output[] {
  const kind = String(output.output_type ?? "");
  if (kind === "stream") return [{ form: "text", text: plain(joined(output.text)), isError: output.name === "stderr" }];
  if (kind === "error" || kind === "pyerr") {
    const trace = Array.isArray(output.traceback) ? output.traceback.filter((line) => typeof line === "string").join("\n") : "";
    return [{ form: "text", text: plain(trace) || `${String(output.ename ?? "")}: ${String(output.evalue ?? "")}`, isError: true }];
  }
  const data = isJson(output.data) ? output.data : output; // before version 4 they were beside the type
  for (const [type, old] of PICTURES) {
    const bytes = joined(data[type] ?? data[old]).replace(/\s+/g, "");
    if (bytes) return [{ form: "picture", src: `data:${type};base64,${bytes}` }];
  }
  const drawing = joined(data["image/svg+xml"] ?? data.svg);
  if (drawing) return [{ form: "picture", src: `data:image/svg+xml;charset=utf-8,${encodeURIComponent(drawing)}` }];
  const page = joined(data["text/html"] ?? data.html);
  if (page) return [{ form: "html", text: page }];
  const marked = joined(data["text/markdown"]);
  if (marked) return [{ form: "markdown", text: marked }];
  const words = joined(data["text/plain"] ?? data["text/latex"] ?? data.text);
  const json = data["application/json"];
  const text = words || (json === undefined ? "" : JSON.stringify(json, null, 2));
  return text ? [{ form: "text", text: plain(text), isError: false }] : [];
}

/** Without the escape sequences of terminals (ECMA-48), as traces and progress bars have them; of a line that was written
 * over and over only its last form. */
export function plain(text: string): string {
  return (
    text
      // biome-ignore lint/suspicious/noControlCharactersInRegex: these are what is looked for
      .replace(/\u001b\[[0-?]*[ -/]*[@-~]|\u001b\][^\u0007\u001b]*(\u0007|\u001b\\)/g, "")
      .replace(/\r\n/g, "\n")
      .split("\n")
      .map((line) => line.replace(/\r$/, "").split("\r").at(-1) ?? "")
      .join("\n")
  );
}
