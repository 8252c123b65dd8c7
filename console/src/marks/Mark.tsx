/** Marks of change: glyph, then pattern, then colour; each has its word as accessible name. */

const PATHS: Record<string, React.ReactNode> = {
  added: (
    <>
      <rect x=".5" y=".5" width="15" height="15" rx="2" fill="var(--added)" />
      <path d="M8 3.6V12.4M3.6 8H12.4" stroke="var(--sheet)" strokeWidth="2" />
    </>
  ),
  removed: (
    <>
      <rect
        x="1"
        y="1"
        width="14"
        height="14"
        rx="2"
        fill="var(--sheet)"
        stroke="var(--removed)"
        strokeWidth="1.3"
        strokeDasharray="2.6 1.9"
      />
      <path d="M4 8H12" stroke="var(--removed)" strokeWidth="2" />
    </>
  ),
  changed: (
    <>
      <rect x=".9" y=".9" width="14.2" height="14.2" rx="2" fill="var(--changed-wash)" stroke="var(--changed)" strokeWidth="1.3" />
      <path d="M4 6H12M4 10H12M10.2 3.2L5.8 12.8" stroke="var(--changed)" strokeWidth="1.7" fill="none" />
    </>
  ),
  moved: (
    <>
      <circle cx="8" cy="8" r="7.1" fill="var(--moved-wash)" stroke="var(--moved)" strokeWidth="1.3" />
      <path d="M4.2 10.4A3.9 3.9 0 0 1 11.6 8.8M12.4 5.9L11.7 9.3L8.6 8" stroke="var(--moved)" strokeWidth="1.6" fill="none" />
    </>
  ),
  cosmetic: (
    <>
      <rect x="1" y="1" width="14" height="14" rx="7" fill="none" stroke="var(--cosmetic)" strokeWidth="1.1" strokeDasharray="1.2 2" />
      <circle cx="8" cy="8" r="1.6" fill="var(--cosmetic)" />
    </>
  ),
};

const SAME_MARK: Record<string, string> = {
  renamed: "moved",
  reordered: "moved",
  new: "added",
  edited: "changed",
  gone: "removed",
};

export function Mark({ action, cosmetic = false }: { action: string; cosmetic?: boolean }) {
  const shape = cosmetic ? "cosmetic" : (SAME_MARK[action] ?? action);
  return (
    <svg className="m" viewBox="0 0 16 16" role="img" aria-label={action}>
      {PATHS[shape]}
    </svg>
  );
}

/** The mark's shape alone, for use inside another drawing. */
export function MarkShape({ action }: { action: string }) {
  return <>{PATHS[SAME_MARK[action] ?? action]}</>;
}

const EFFECT_LINES: Record<string, React.ReactNode> = {
  breaks: (
    <>
      <path d="M0 5H5L6.6 1L9 9L10.6 5" fill="none" stroke="currentColor" strokeWidth="1.6" />
      <path d="M13 5H16" stroke="currentColor" strokeWidth="1.6" />
    </>
  ),
  alters: <path d="M0 7.5H6V2.5H16" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  cosmetic: <path d="M0 5H16" stroke="currentColor" strokeWidth="1.5" strokeDasharray="1.5 2.4" />,
};

/** Effect is ink, not colour. `judged` false: something could not be read as what it is, so nobody can say. */
export function Effect({ effect, judged = true }: { effect: string | null | undefined; judged?: boolean | undefined }) {
  if (!effect && judged) return null;
  if (!effect)
    return (
      <span className="ef mut">
        <svg viewBox="0 0 16 10" aria-hidden="true">
          <path d="M5 3.2A3 2.6 0 1 1 9.2 5.2Q8 5.8 8 7M8 8.6V9.8" fill="none" stroke="currentColor" strokeWidth="1.5" />
        </svg>
        not judged
      </span>
    );
  return (
    <span className={`ef ${effect}`}>
      <svg viewBox="0 0 16 10" aria-hidden="true">
        {EFFECT_LINES[effect]}
      </svg>
      {effect}
    </span>
  );
}

export function Tick({ met }: { met: boolean }) {
  return (
    <svg width="16" height="16" viewBox="0 0 16 16" role="img" aria-label={met ? "met" : "not met"} style={{ flex: "none" }}>
      {met ? (
        <path d="M2.5 8.5L6.5 12.2L13.5 4.2" fill="none" stroke="currentColor" strokeWidth="1.8" />
      ) : (
        <path d="M2 8H5.2M10.8 8H14M5.8 3V13M10.2 3V13" fill="none" stroke="currentColor" strokeWidth="1.7" />
      )}
    </svg>
  );
}
