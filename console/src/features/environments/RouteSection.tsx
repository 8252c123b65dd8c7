/** A route: the line along its stations, the gates between them, and below them what is shown of the chosen one. */
import type { CSSProperties, ReactNode } from "react";
import type { Environment, Rehearsal } from "../../api/queries";
import type { Panel } from "./panels";
import { GAP, RouteLine, STATION } from "./RouteLine";
import { GatesInto, Station } from "./Station";

interface Props {
  route: string;
  /** whether its name is said: there are others */
  named: boolean;
  stations: Environment[];
  chosen?: Environment;
  panel: Panel;
  rehearsal?: Rehearsal;
  onChoose: (environment: Environment, panel: Panel) => void;
  onRehearse: (environment: Environment) => void;
  onRollBack: (environment: Environment, reason: string) => Promise<unknown>;
  /** of the chosen environment; drawn in the section of its route only */
  children: ReactNode;
}

export function RouteSection({ route, named, stations, chosen, panel, rehearsal, onChoose, onRehearse, onRollBack, children }: Props) {
  const trial = route === "trial";
  const place = stations.findIndex((e) => e.name === chosen?.name);
  const known = (e: Environment) => (rehearsal?.environment === e.name ? rehearsal : undefined);
  return (
    <section className="routeset" aria-label={`Route ${route}`}>
      {named && <h2 className="cap">route {route}</h2>}
      <div className="route" tabIndex={0} role="region" aria-label={`Stations of ${route}`}>
        {!trial && <RouteLine stations={stations} rehearsal={rehearsal} />}
        <div className={`halts ${trial ? "loose" : ""}`}>
          {stations.map((e, i) => (
            <div key={e.name} className="halt">
              {i > 0 && !trial && <GatesInto environment={e} known={known(e)} />}
              <Station
                environment={e}
                first={i === 0}
                chosen={i === place}
                panel={panel}
                onChoose={(next) => onChoose(e, next)}
                onRehearse={() => onRehearse(e)}
                onRollBack={(reason) => onRollBack(e, reason)}
              />
            </div>
          ))}
        </div>
      </div>
      {place >= 0 && (
        <div className="ofstation" style={{ "--notch": `${place * (STATION + (trial ? LOOSE : GAP)) + STATION / 2}px` } as CSSProperties}>
          {children}
        </div>
      )}
    </section>
  );
}

/** Between trials, which are not on a line. */
const LOOSE = 10;
