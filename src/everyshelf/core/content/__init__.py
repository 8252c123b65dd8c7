"""Ground floor: content ids, chunks, segments, and the places where bytes live."""
