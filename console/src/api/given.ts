/** What stands in a page's address, as the service takes it. */

/** A whole number, or nothing where nothing is given; what is no number is sent as such, and the service says so. */
export function numberIn(text: string | undefined): number | undefined {
  return text ? Number(text) : undefined;
}

/** The word, if it is one of those that are known. */
export function oneOf<const T extends string>(known: readonly T[], text: string | undefined): T | undefined {
  return known.find((one) => one === text);
}
