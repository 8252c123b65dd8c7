/** What stands in a page's address, as the service takes it. */

/** A number; undefined for an empty text. Any other text becomes NaN, which the service refuses with a problem. */
export function numberIn(text: string | undefined): number | undefined {
  return text ? Number(text) : undefined;
}

/** The word, if it is one of those that are known. */
export function oneOf<const T extends string>(known: readonly T[], text: string | undefined): T | undefined {
  return known.find((one) => one === text);
}
