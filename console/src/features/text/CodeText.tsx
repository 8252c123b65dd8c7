/** Code with colours, set as plain text: for many short pieces, where an editor each would be too much. */
import type { Parser } from "@lezer/common";
import { classHighlighter, highlightCode } from "@lezer/highlight";
import { type ReactNode, useEffect, useState } from "react";

const PARSERS: Record<string, () => Promise<Parser>> = {
  python: async () => (await import("@codemirror/lang-python")).pythonLanguage.parser,
  sql: async () => (await import("@codemirror/lang-sql")).StandardSQL.language.parser,
  javascript: async () => (await import("@codemirror/lang-javascript")).javascriptLanguage.parser,
};

export function CodeText({ code, language }: { code: string; language: string }) {
  const parser = useParser(language);
  return <pre className="setcode">{parser ? coloured(code, parser) : code}</pre>;
}

function useParser(language: string): Parser | null {
  const [found, setFound] = useState<{ of: string; parser: Parser } | null>(null);
  useEffect(() => {
    let wanted = true;
    void PARSERS[language]?.().then((parser) => wanted && setFound({ of: language, parser }));
    return () => {
      wanted = false;
    };
  }, [language]);
  return found?.of === language ? found.parser : null;
}

function coloured(code: string, parser: Parser): ReactNode[] {
  const out: ReactNode[] = [];
  highlightCode(
    code,
    parser.parse(code),
    classHighlighter,
    (text, classes) =>
      out.push(
        classes ? (
          <span key={out.length} className={classes}>
            {text}
          </span>
        ) : (
          text
        ),
      ),
    () => out.push("\n"),
  );
  return out;
}
