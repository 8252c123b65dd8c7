import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api } from "../../api/client";
import { oneOf } from "../../api/given";
import { Choice } from "../../parts/Choice";
import { Field } from "../../parts/Field";
import { Suggest } from "../../parts/Suggest";
import { useShelfKey } from "../../shell/Page";

const ADDRESSES = {
  folder: { label: "Folder", hint: "" },
  database: { label: "Database: a file, or an address", hint: "postgresql+psycopg://USER@HOST/NAME" },
  platform: { label: "Address of the space", hint: "https://HOST/SPACE" },
  git: { label: "Address of the repository, branch and folder", hint: "https://HOST/REPOSITORY.git#BRANCH:FOLDER" },
} as const;
type Destination = keyof typeof ADDRESSES;
const WHAT = { new: "made with it", empty: "empty folder", database: "database file" } as const;

/** Where an environment called `name` lives; what is free of the places this installation allows is offered. */
export function usePlace(name: string, shown: boolean) {
  const key = useShelfKey();
  const [destination, setDestination] = useState<Destination>("folder");
  const [subfolder, setSubfolder] = useState("");
  const [records, setRecords] = useState("");
  const [address, setAddress] = useState("");
  const [token, setToken] = useState("");
  const chosen = oneOf(["folder", "database"], destination);
  const free = useQuery({
    queryKey: ["shelf", key, "free-places", destination, name],
    queryFn: () =>
      answer(api.GET("/shelves/{shelf}/free-places", { params: { path: { shelf: key }, query: { destination: chosen, name } } })),
    enabled: chosen !== undefined && shown,
    placeholderData: (before) => before,
  });
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
        onChange={(e) => {
          setDestination(e.target.value as Destination);
          setAddress("");
        }}
      >
        <option value="folder">a folder</option>
        <option value="database">a database</option>
        <option value="platform">a platform</option>
        <option value="git">a Git repository</option>
      </Choice>
      {chosen ? (
        <Suggest
          label={ADDRESSES[destination].label}
          value={address}
          options={(free.data ?? []).map((one) => ({ value: one.address, what: WHAT[one.what] }))}
          placeholder={ADDRESSES[destination].hint}
          hint={`Left empty: ${free.data?.find((one) => one.what === "new")?.address ?? "one below the service's data"}`}
          onChange={setAddress}
        />
      ) : (
        <Field
          id={`${id}-address`}
          label={ADDRESSES[destination].label}
          value={address}
          required
          placeholder={ADDRESSES[destination].hint}
          onChange={(e) => setAddress(e.target.value)}
        />
      )}
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
