/** A model alone: its tensors with their shapes, and a bar for how much of the model each is. */
import { count, group } from "../../marks/words";
import { Table } from "../../parts/Table";
import type { ShownTensor } from "./model";

const MOST = 1000;

export function TensorList({ tensors, values }: { tensors: ShownTensor[]; values: number }) {
  const most = Math.max(...tensors.map((t) => t.values), 1);
  return (
    <section className="sheet" aria-label="Tensors">
      <div className="ph">
        <h2 className="h3">{count(tensors.length, "tensor")}</h2>
        <span className="cap">{group(values)} values</span>
      </div>
      <div className="scroll" style={{ maxHeight: 420 }} tabIndex={0} role="region" aria-label="Tensors and their sizes">
        <Table className="tensors">
          <thead>
            <tr>
              <th scope="col">tensor</th>
              <th scope="col">shape</th>
              <th scope="col">type</th>
              <th scope="col">values</th>
            </tr>
          </thead>
          <tbody>
            {tensors.slice(0, MOST).map((t) => (
              <tr key={t.name}>
                <th scope="row" className="mono">
                  {t.name}
                </th>
                <td className="mono">{t.shape}</td>
                <td>{t.type}</td>
                <td>
                  <span className="far" aria-hidden="true">
                    <i style={{ width: `${(t.values / most) * 100}%` }} />
                  </span>{" "}
                  {group(t.values)}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      </div>
    </section>
  );
}
