/** Two pictures: one over the other with a slider, side by side, or what differs laid over the newer one. */

import { Slider } from "@mui/material";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { Finding } from "../../api/queries";
import { Effect, Mark } from "../../marks/Mark";
import { group } from "../../marks/words";
import { Part, Switch } from "../../parts/Acts";
import { ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { told } from "../compare/model";
import { Inline } from "../compare/Worded";
import { usePicture } from "./usePicture";

export type ComparedPicture = Schemas["PictureAnswer"];
interface Props {
  picture: ComparedPicture;
  findings: Finding[];
  shelf: string;
  path: string;
  from: string;
  to: string;
}
const WAYS = { slider: "Slider", beside: "Side by side", difference: "Difference" } as const;

export function PictureComparison({ picture, findings, shelf, path, from, to }: Props) {
  const [asked, setWay] = useParam("way", "slider");
  const [at, setAt] = useState(50);
  const before = usePicture(shelf, path, from);
  const after = usePicture(shelf, path, to);
  const error = before.error ?? after.error;
  const same = picture.before.width === picture.after.width && picture.before.height === picture.after.height;
  const way = same ? asked : "beside";
  if (error) return <ProblemBox error={error} />;
  const frame = {
    aspectRatio: `${picture.after.width} / ${picture.after.height}`,
    maxWidth: `min(100%, ${Math.max(picture.after.width, 320)}px, calc((100vh - 330px) * ${picture.after.width / picture.after.height}))`,
  };
  return (
    <div className="cols-table">
      <section className="sheet pictures" aria-label="Pictures">
        <div className="ph">
          <h2 className="h3">{size(picture)}</h2>
          {same && (
            <Switch className="r" label="Compared as">
              {Object.entries(WAYS).map(([id, name]) => (
                <Part key={id} pressed={way === id} onClick={() => setWay(id)}>
                  {name}
                </Part>
              ))}
            </Switch>
          )}
        </div>
        {way === "beside" ? (
          <div className="both">
            <figure>
              <img src={before.src} alt={`${path} at ${from}`} />
              <figcaption>before, {from}</figcaption>
            </figure>
            <figure>
              <img src={after.src} alt={`${path} at ${to}`} />
              <figcaption>after, {to}</figcaption>
            </figure>
          </div>
        ) : (
          <div className="canvas">
            <div className="frame" style={frame}>
              <img src={after.src} alt={`${path} at ${to}`} className={way === "difference" ? "faded" : ""} />
              {way === "slider" && <img src={before.src} alt={`${path} at ${from}`} style={{ clipPath: `inset(0 ${100 - at}% 0 0)` }} />}
              {way === "slider" && <i className="line" style={{ left: `${at}%` }} />}
              {way === "difference" && picture.difference && (
                <span
                  className="differs"
                  style={{ maskImage: `url(${picture.difference})`, WebkitMaskImage: `url(${picture.difference})` }}
                />
              )}
              {picture.region && <Region picture={picture} />}
            </div>
            {way === "slider" && (
              <div className="slide">
                <span className="cap">before</span>
                <Slider
                  size="small"
                  value={at}
                  onChange={(_, v) => setAt(v as number)}
                  aria-label="How much of the older picture is shown"
                  valueLabelDisplay="off"
                />
                <span className="cap">after</span>
              </div>
            )}
          </div>
        )}
      </section>
      <section className="sheet" aria-label="Findings">
        <div className="ph">
          <h2 className="h3">Findings</h2>
          <span className="cap">{group(findings.length)}</span>
        </div>
        {findings.map((f) => {
          const { lead, before: was, after: now } = told(f);
          return (
            <div key={`${f.part} ${f.field ?? ""}`} className="find">
              <span className="hd">
                <Mark action={f.action} cosmetic={f.effect === "cosmetic"} />
                <b>{f.label}</b>
                <Effect effect={f.effect} />
              </span>
              <span className="sub">
                {lead} <Inline before={was} after={now} />
              </span>
            </div>
          );
        })}
      </section>
    </div>
  );
}

/** The smallest rectangle around everything that differs. */
function Region({ picture }: { picture: ComparedPicture }) {
  const { region, after } = picture;
  if (!region) return null;
  const part = (n: number, of: number) => `${(n / of) * 100}%`;
  return (
    <i
      className="region"
      style={{
        left: part(region.x, after.width),
        top: part(region.y, after.height),
        width: part(region.width, after.width),
        height: part(region.height, after.height),
      }}
    />
  );
}

function size({ before, after }: ComparedPicture): string {
  const told = (s: ComparedPicture["before"]) => `${s.width} × ${s.height}`;
  return told(before) === told(after) ? `${told(after)} pixels` : `${told(before)} → ${told(after)} pixels`;
}
