import { Button } from "@mui/material";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { send } from "../../api/client";
import type { Environment, Job, Tag } from "../../api/queries";
import { CheckField } from "../../parts/CheckField";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Sheet, useSheet } from "../../parts/Sheet";
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
      <Choice
        id={`${id}-destination`}
        label="Destination"
        value={destination}
        onChange={(e) => setDestination(e.target.value as Destination)}
      >
        <option value="folder">a folder</option>
        <option value="database">a database</option>
        <option value="platform">a platform</option>
        <option value="git">a Git repository</option>
      </Choice>
      <Field
        id={`${id}-address`}
        label={ADDRESSES[destination].label}
        value={address}
        required={destination === "platform" || destination === "git"}
        placeholder={ADDRESSES[destination].hint}
        onChange={(e) => setAddress(e.target.value)}
      />
      <Field
        id={`${id}-subfolder`}
        label={
          destination === "database"
            ? "Folder of the shelf its tables and records lie in"
            : "Only this folder of the shelf (empty: all of it)"
        }
        required={destination === "database"}
        value={subfolder}
        onChange={(e) => setSubfolder(e.target.value)}
      />
      {destination === "database" && (
        <Field
          id={`${id}-records`}
          label="Tables to version with their records (others: schema only)"
          placeholder="vessels, fares_*"
          value={records}
          onChange={(e) => setRecords(e.target.value)}
        />
      )}
      {destination !== "folder" && (
        <Field
          id={`${id}-token`}
          label={<>{destination === "database" ? "Password there" : "Token there"} (kept encrypted)</>}
          type="password"
          autoComplete="off"
          value={token}
          onChange={(e) => setToken(e.target.value)}
        />
      )}
    </>
  );
  return { body, fields };
}

export function MakeEnvironment() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useSheet();
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
      dialog.hide();
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <>
      <Button variant="outlined" onClick={() => dialog.show()}>
        Make an environment
      </Button>
      <Sheet of={dialog} label="Make an environment">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>Make an environment</h2>
          <Field id="env-name" label="Name" required value={name} onChange={(e) => setName(e.target.value)} />
          <Field id="env-route" label="Route" required value={route} onChange={(e) => setRoute(e.target.value)} />
          {place.fields("env")}
          <Field id="env-fed" label="Fed from this branch only (empty: any)" value={fed} onChange={(e) => setFed(e.target.value)} />
          <CheckField checked={earlier} onChange={(e) => setEarlier(e.target.checked)}>
            A tag must have run in the environment before it
          </CheckField>
          {make.isError && <ProblemBox error={make.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained">
              Make the environment
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}

export function MakeTrial({ tags, onMade }: { tags: Tag[]; onMade: (job: string) => void }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useSheet();
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
      dialog.hide();
      onMade(job.job);
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <>
      <Button variant="outlined" onClick={() => dialog.show()}>
        New trial environment
      </Button>
      <Sheet of={dialog} label="New trial environment">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <h2>New trial environment</h2>
          <p className="sec sm">A private environment for trying a tag or your draft. It is removed automatically.</p>
          <Field id="trial-name" label="Name" required value={name} onChange={(e) => setName(e.target.value)} />
          <Choice id="trial-tag" label="Tag" value={wanted} onChange={(e) => setTag(e.target.value)}>
            {tags.map((t) => (
              <option key={t.name} value={t.name}>
                tag:{t.name}
              </option>
            ))}
          </Choice>
          <Field
            id="trial-days"
            label="Days it lasts"
            type="number"
            min={1}
            max={60}
            value={days}
            onChange={(e) => setDays(e.target.value)}
          />
          {place.fields("trial")}
          {make.isError && <ProblemBox error={make.error} />}
          <div className="acts">
            <Button onClick={() => dialog.hide()}>Cancel</Button>
            <Button type="submit" variant="contained">
              Make it, and put the tag there
            </Button>
          </div>
        </form>
      </Sheet>
    </>
  );
}
