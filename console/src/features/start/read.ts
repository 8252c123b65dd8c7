/** Whether the first steps of a role were read in this browser; a new role has new ones. */

const name = (shelf: string, role: string) => `everyshelf.first-steps.${shelf}.${role}`;

export function hasReadSteps(shelf: string, role: string): boolean {
  try {
    return localStorage.getItem(name(shelf, role)) !== null;
  } catch {
    return true; // a browser that keeps nothing is not asked again and again
  }
}

export function readSteps(shelf: string, role: string): void {
  try {
    localStorage.setItem(name(shelf, role), "read");
  } catch {
    // nothing is kept: the note is not shown either
  }
}
