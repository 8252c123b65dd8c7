/** One's own keys, kept in this browser. Whoever speaks to the computer, or presses keys by accident, can change them or
 * turn them off (Web Content Accessibility Guidelines 2.2, 2.1.4). */
import { useEffect, useSyncExternalStore } from "react";
import { isPlain, isTyping, type KeyAct, keysFrom, type OwnKeys } from "./keys";

const NAME = "everyshelf.keys";
const CHANGED = "everyshelf-keys";

function kept(): string | null {
  return localStorage.getItem(NAME);
}

function watch(changed: () => void): () => void {
  window.addEventListener(CHANGED, changed);
  window.addEventListener("storage", changed);
  return () => {
    window.removeEventListener(CHANGED, changed);
    window.removeEventListener("storage", changed);
  };
}

export function useOwnKeys(): OwnKeys {
  return keysFrom(useSyncExternalStore(watch, kept));
}

export function keepKeys(keys: OwnKeys): void {
  localStorage.setItem(NAME, JSON.stringify(keys));
  window.dispatchEvent(new Event(CHANGED));
}

/** Do something when the key of an act is pressed outside of a text. */
export function useKey(act: KeyAct, onPress: () => void): void {
  const key = useOwnKeys()[act];
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      if (key === "" || event.key !== key || !isPlain(event) || isTyping(event)) return;
      event.preventDefault();
      onPress();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [key, onPress]);
}
