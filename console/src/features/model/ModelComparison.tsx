/** A compared model: findings, how far each layer's weights moved, and what was measured before and after. */

import { useMemo, useState } from "react";
import type { Finding } from "../../api/queries";
import { Effect, Mark } from "../../marks/Mark";
import { count, group } from "../../marks/words";
import { Part, RowAct, Switch, TextAct } from "../../parts/Acts";
import { Table } from "../../parts/Table";
import { told } from "../compare/model";
import { Inline } from "../compare/Worded";
import { MetricTable } from "./MetricTable";
import { type ComparedModel, far, percent, small, type TensorRow } from "./model";
import { WeightPlot } from "./WeightPlot";

const MOST = 500;

export function ModelComparison({ model, findings }: { model: ComparedModel; findings: Finding[] }) {
  const [only, setOnly] = useState(true);
  const rows = useMemo(() => model.tensors.filter((t) => !only || t.state !== "equal"), [model, only]);
  const [picked, setPicked] = useState("");
  const chosen = rows.find((t) => t.name === picked) ?? rows.find((t) => t.distance) ?? rows[0];
  return (
    <div className="cols2">
      <section className="sheet" aria-label="Findings">
        <div className="ph">
          <h2 className="h3">Findings</h2>
          <span className="cap">{group(findings.length)}</span>
        </div>
        <div className="tree" style={{ padding: 0 }}>
          {findings.slice(0, MOST).map((f) => {
            const { lead, before, after } = told(f);
            return (
              <RowAct key={`${f.part} ${f.field ?? ""} ${f.action}`} className="find" onClick={() => setPicked(nameOf(f, model))}>
                <span className="hd">
                  <Mark action={f.action} cosmetic={f.effect === "cosmetic"} />
                  <b>
                    {f.type} <span className="mono">{f.label}</span>
                  </b>
                  <Effect effect={f.effect} />
                </span>
                <span className="sub">
                  {lead} <Inline before={before} after={after} />
                </span>
              </RowAct>
            );
          })}
          {findings.length === 0 && <p className="cap pad">Only cosmetic findings; they are hidden.</p>}
        </div>
      </section>
      <div className="stack">
        {model.metrics.length > 0 && <MetricTable metrics={model.metrics} />}
        <section className="sheet" aria-label="Weights">
          <div className="ph">
            <h2 className="h3">Weights</h2>
            <span className="cap">{said(model)}</span>
            <Switch className="r" label="Tensors shown">
              <Part pressed={only} onClick={() => setOnly(true)}>
                that differ
              </Part>
              <Part pressed={!only} onClick={() => setOnly(false)}>
                all
              </Part>
            </Switch>
          </div>
          <div className="scroll" style={{ maxHeight: 420 }} tabIndex={0} role="region" aria-label="Tensors">
            <Table className="tensors">
              <thead>
                <tr>
                  <th scope="col">tensor</th>
                  <th scope="col">shape</th>
                  <th scope="col">relative change</th>
                  <th scope="col" className="num">
                    largest
                  </th>
                  <th scope="col" className="num">
                    of values
                  </th>
                </tr>
              </thead>
              <tbody>
                {rows.slice(0, MOST).map((t) => (
                  <Tensor key={t.name} tensor={t} current={t === chosen} onChoose={() => setPicked(t.name)} />
                ))}
              </tbody>
            </Table>
            {rows.length === 0 && <p className="cap pad">The weights of all tensors are equal.</p>}
          </div>
          {(rows.length > MOST || model.truncated) && <p className="cap pad">The first {group(Math.min(rows.length, MOST))} are shown.</p>}
        </section>
        {chosen?.distance && chosen.distance.bins.length > 0 && <WeightPlot tensor={chosen} />}
      </div>
    </div>
  );
}

/** The tensor a finding is about: findings name parts by their type, tensors by where they stand. */
function nameOf(finding: Finding, model: ComparedModel): string {
  const steps = finding.part
    .split("/")
    .slice(1)
    .map((step) => step.slice(step.indexOf(":") + 1).replace(/%2F/g, "/"));
  const ends = [steps.join("/"), steps.join("."), steps[steps.length - 1] ?? ""];
  return model.tensors.find((t) => ends.includes(t.name))?.name ?? "";
}

function said(model: ComparedModel): string {
  const { before, after } = model.values;
  const size = before === after ? `${group(after)} values` : `${group(before)} → ${group(after)} values`;
  return `${count(model.tensors.length, "tensor")}, ${size}, ${group(model.counts.equal)} equal`;
}

function Tensor({ tensor, current, onChoose }: { tensor: TensorRow; current: boolean; onChoose: () => void }) {
  const { before, after, distance, state } = tensor;
  const shape =
    before && after && before.shape !== after.shape ? (
      <>
        <del>{before.shape}</del> <ins>{after.shape}</ins>
      </>
    ) : (
      (after ?? before)?.shape
    );
  const type = before && after && before.type !== after.type ? `${before.type} → ${after.type}` : (after ?? before)?.type;
  return (
    <tr aria-current={current || undefined}>
      <th scope="row">
        <TextAct onClick={onChoose}>
          {state !== "equal" && <Mark action={state} />} <span className="mono">{tensor.name}</span>
        </TextAct>
      </th>
      <td className="mono">
        {shape} <span className="cap">{type}</span>
      </td>
      <td>
        {distance ? (
          <>
            <span className="far" aria-hidden="true">
              <i style={{ width: `${far(distance.relative) * 100}%` }} />
            </span>{" "}
            {percent(distance.relative) || "was all zero"}
          </>
        ) : (
          <span className="cap">{state === "changed" ? "not comparable value by value" : state}</span>
        )}
      </td>
      <td className="num">{distance && distance.largest !== null ? small(distance.largest) : ""}</td>
      <td className="num">{distance ? percent(distance.share) : ""}</td>
    </tr>
  );
}
