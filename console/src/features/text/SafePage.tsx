/** HTML from a file with everything taken out that runs, loads or asks: what is left is words, tables and pictures. */
import DOMPurify from "dompurify";
import { useMemo } from "react";

const SAFE = {
  USE_PROFILES: { html: true },
  FORBID_TAGS: ["style", "form", "input", "button", "select", "textarea", "link", "meta", "iframe", "video", "audio"],
  FORBID_ATTR: ["style", "class", "id", "name", "border"],
};

/** Pictures that are within the file are kept; one that would be fetched is not. */
const purifier = DOMPurify();
purifier.addHook("afterSanitizeAttributes", (node) => {
  if (node.nodeName !== "IMG") return;
  if (!/^data:image\//.test(node.getAttribute("src") ?? "")) node.remove();
  else if (!node.hasAttribute("alt")) node.setAttribute("alt", "a picture of the output");
});

export function SafePage({ html, label }: { html: string; label: string }) {
  const safe = useMemo(() => purifier.sanitize(html, SAFE), [html]);
  return (
    // biome-ignore lint/security/noDangerouslySetInnerHtml: it has just been made safe
    <div className="marked scroll" tabIndex={0} role="region" aria-label={label} dangerouslySetInnerHTML={{ __html: safe }} />
  );
}
