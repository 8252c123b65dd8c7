/** HTML from a file with everything taken out that runs, loads or asks: what is left is words, tables and pictures. */
import DOMPurify from "dompurify";
import { useMemo } from "react";

const SAFE = {
  USE_PROFILES: { html: true },
  FORBID_TAGS: ["style", "form", "input", "button", "select", "textarea", "link", "meta", "iframe", "video", "audio"],
  FORBID_ATTR: ["style", "class", "id", "name", "border"],
};

export function SafePage({ html, label }: { html: string; label: string }) {
  const safe = useMemo(() => DOMPurify.sanitize(html, SAFE), [html]);
  return (
    // biome-ignore lint/security/noDangerouslySetInnerHtml: it has just been made safe
    <div className="marked scroll" tabIndex={0} role="region" aria-label={label} dangerouslySetInnerHTML={{ __html: safe }} />
  );
}
