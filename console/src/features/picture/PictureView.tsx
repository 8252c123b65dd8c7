/** A picture alone. */
import { ProblemBox } from "../../shell/states";
import { usePicture } from "./usePicture";

export function PictureView({ shelf, path, at }: { shelf: string; path: string; at: string }) {
  const { src, error } = usePicture(shelf, path, at);
  if (error) return <ProblemBox error={error} />;
  return (
    <div className="sheet pictures">
      <div className="canvas">
        <img src={src} alt={path} className="alone" />
      </div>
    </div>
  );
}
