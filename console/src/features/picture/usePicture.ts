/** A picture's bytes as an address the page can show. */
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { blob } from "../../api/client";

export function usePicture(shelf: string, path: string, ref: string): { src: string; error: Error | null } {
  const at = ref.startsWith("version:") ? { ref: "main", version: ref.slice(8) } : { ref, version: undefined };
  const found = useQuery({
    queryKey: ["picture", shelf, path, ref],
    queryFn: () => blob(`shelves/${shelf}/artifact/file`, { path, ...at }),
    staleTime: Infinity,
  });
  const [src, setSrc] = useState("");
  useEffect(() => {
    if (!found.data) return;
    const made = URL.createObjectURL(found.data);
    setSrc(made);
    return () => URL.revokeObjectURL(made);
  }, [found.data]);
  return { src, error: found.error };
}
