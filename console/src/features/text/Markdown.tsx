/** Markdown as it reads. HTML within it is shown as text: nothing of a file runs here. */
import ReactMarkdown from "react-markdown";
import remarkGfm from "remark-gfm";
import { Table } from "../../parts/Table";

/** Headings begin below those of the page. */
const LOWER = { h1: "h3", h2: "h4", h3: "h5", h4: "h6", h5: "h6", h6: "h6" } as const;

export function Markdown({ text }: { text: string }) {
  return (
    <div className="marked">
      <ReactMarkdown
        remarkPlugins={[remarkGfm]}
        components={{
          ...LOWER,
          a: ({ children, href }) => (
            <a href={href} target="_blank" rel="noopener noreferrer">
              {children}
            </a>
          ),
          input: ({ checked }) => (
            <span role="img" aria-label={checked ? "done" : "to do"}>
              {checked ? "☑" : "☐"}
            </span>
          ),
          img: ({ alt }) => <span className="cap">{alt ? `picture: ${alt}` : "a picture"}</span>,
          table: ({ children }) => (
            <div className="scroll" tabIndex={0} role="region" aria-label="Table">
              <Table>{children}</Table>
            </div>
          ),
        }}
      >
        {text}
      </ReactMarkdown>
    </div>
  );
}
