import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { send } from "../../api/client";
import type { Environment, Job, Tag } from "../../api/queries";
import { useShelfKey } from "../../shell/Page";
import { ProblemBox } from "../../shell/states";

const ADDRESSES = {
  folder: { label: "Folder (empty: one below the service's data)", hint: "" },
  database: {
    label: "Database: a file (empty: one below the service's data), or an address",
    hint: "postgresql+psycopg://USER@HOST/NAME",
  },
  platform: { label: "Address of the space", hint: "https://HOST/SPACE" },
  git: { label: "Address of the repository, branch and folder", hint: "https://HOST/REPOSITORY.git#BRANCH:FOLDER" },
} as const;
type Destination = keyof typeof ADDRESSES;

/** Where an environment lives: a folder or a database's file the service chooses, another database, or a platform. */
function usePlace() {
  const [destination, setDestination] = useState<Destination>("folder");
  const [subfolder, setSubfolder] = useState("");
  const [records, setRecords] = useState("");
  const [address, setAddress] = useState("");
  const [token, setToken] = useState("");
  const body = {
    destination,
    address,
    token,
    subfolder,
    records: records
      .split(",")
      .map((t) => t.trim())
      .filter(Boolean),
  };
  const fields = (id: string) => (
    <>
      <label htmlFor={`${id}-destination`}>Destination</label>
      <select id={`${id}-destination`} className="inp" value={destination} onChange={(e) => setDestination(e.target.value as Destination)}>
        <option value="folder">a folder</option>
        <option value="database">a database</option>
        <option value="platform">a platform</option>
        <option value="git">a Git repository</option>
      </select>
      <label htmlFor={`${id}-address`}>{ADDRESSES[destination].label}</label>
      <input
        id={`${id}-address`}
        className="inp"
        value={address}
        required={destination === "platform" || destination === "git"}
        placeholder={ADDRESSES[destination].hint}
        onChange={(e) => setAddress(e.target.value)}
      />
      <label htmlFor={`${id}-subfolder`}>
        {destination === "database"
          ? "Folder of the shelf its tables and records lie in"
          : "Only this folder of the shelf (empty: all of it)"}
      </label>
      <input
        id={`${id}-subfolder`}
        className="inp"
        required={destination === "database"}
        value={subfolder}
        onChange={(e) => setSubfolder(e.target.value)}
      />
      {destination === "database" && (
        <>
          <label htmlFor={`${id}-records`}>Tables to version with their records (others: schema only)</label>
          <input
            id={`${id}-records`}
            className="inp"
            placeholder="vessels, fares_*"
            value={records}
            onChange={(e) => setRecords(e.target.value)}
          />
        </>
      )}
      {destination !== "folder" && (
        <>
          <label htmlFor={`${id}-token`}>{destination === "database" ? "Password there" : "Token there"} (kept encrypted)</label>
          <input
            id={`${id}-token`}
            className="inp"
            type="password"
            autoComplete="off"
            value={token}
            onChange={(e) => setToken(e.target.value)}
          />
        </>
      )}
    </>
  );
  return { body, fields };
}

export function MakeEnvironment() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [name, setName] = useState("");
  const [route, setRoute] = useState("main");
  const [fed, setFed] = useState("");
  const [earlier, setEarlier] = useState(false);
  const place = usePlace();
  const make = useMutation({
    mutationFn: () =>
      send("POST", `shelves/${key}/environments`, {
        name,
        route,
        fed_from: fed,
        earlier_first: earlier,
        ...place.body,
      }),
    onSuccess: async () => {
      dialog.current?.close();
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <>
      <Button variant="outlined" onClick={() => dialog.current?.showModal()}>
        Make an environment
      </Button>
      <dialog ref={dialog} aria-label="Make an environment">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>Make an environment</h2>
          <label htmlFor="env-name">Name</label>
          <input id="env-name" className="inp" required value={name} onChange={(e) => setName(e.target.value)} />
          <label htmlFor="env-route">Route</label>
          <input id="env-route" className="inp" required value={route} onChange={(e) => setRoute(e.target.value)} />
          {place.fields("env")}
          <label htmlFor="env-fed">Fed from this branch only (empty: any)</label>
          <input id="env-fed" className="inp" value={fed} onChange={(e) => setFed(e.target.value)} />
          <label>
            <input type="checkbox" checked={earlier} onChange={(e) => setEarlier(e.target.checked)} /> A tag must have run in the
            environment before it
          </label>
          {make.isError && <ProblemBox error={make.error} />}
          <div className="acts">
            <Button onClick={() => dialog.current?.close()}>Cancel</Button>
            <Button type="submit" variant="contained">
              Make the environment
            </Button>
          </div>
        </form>
      </dialog>
    </>
  );
}

export function MakeTrial({ tags, onMade }: { tags: Tag[]; onMade: (job: string) => void }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [name, setName] = useState("");
  const [tag, setTag] = useState("");
  const [days, setDays] = useState("7");
  const place = usePlace();
  const wanted = tag || tags[0]?.name || "";
  const make = useMutation({
    mutationFn: async () => {
      const made = await send<Environment>("POST", `shelves/${key}/environments/trials`, {
        name,
        tag: wanted,
        days: Number(days),
        ...place.body,
      });
      return send<Job>("POST", `shelves/${key}/environments/${made.name}/promote`, {
        tag: wanted,
        reason: "to try it",
      });
    },
    onSuccess: async (job) => {
      dialog.current?.close();
      onMade(job.job);
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <>
      <Button variant="outlined" onClick={() => dialog.current?.showModal()}>
        New trial environment
      </Button>
      <dialog ref={dialog} aria-label="New trial environment">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>New trial environment</h2>
          <p className="sec sm">A private environment for trying a tag or your draft. It is removed automatically.</p>
          <label htmlFor="trial-name">Name</label>
          <input id="trial-name" className="inp" required value={name} onChange={(e) => setName(e.target.value)} />
          <label htmlFor="trial-tag">Tag</label>
          <select id="trial-tag" className="inp" value={wanted} onChange={(e) => setTag(e.target.value)}>
            {tags.map((t) => (
              <option key={t.name} value={t.name}>
                tag:{t.name}
              </option>
            ))}
          </select>
          <label htmlFor="trial-days">Days it lasts</label>
          <input id="trial-days" className="inp" type="number" min={1} max={60} value={days} onChange={(e) => setDays(e.target.value)} />
          {place.fields("trial")}
          {make.isError && <ProblemBox error={make.error} />}
          <div className="acts">
            <Button onClick={() => dialog.current?.close()}>Cancel</Button>
            <Button type="submit" variant="contained">
              Make it, and put the tag there
            </Button>
          </div>
        </form>
      </dialog>
    </>
  );
}
