import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, must } from "../../api/client";
import { keys } from "../../api/keys";
import { useSession } from "../../api/queries";
import { useWrite } from "../../api/writes";
import { Page } from "../../ui/Page";
import { Failed, Skeleton } from "../../ui/state";
import { when } from "../../ui/words";

/** One's own account: another password, and when it was used. */
export function Account() {
  const session = useSession();
  const events = useQuery({
    queryKey: keys.ownEvents(),
    queryFn: () => must(client.GET("/api/session/events")),
  });
  return (
    <Page className="max-w-4xl grid gap-8 md:grid-cols-2 items-start">
      <div>
        <h1>{session.data?.username}</h1>
        {session.data?.demo ? (
          <p className="second mt-2">This is the demo: its password stays as it is.</p>
        ) : (
          <Password />
        )}
      </div>
      <section>
        <h2>When it was used</h2>
        <Failed error={events.error} />
        {events.isPending ? (
          <Skeleton />
        ) : (
          <ul className="mt-2">
            {(events.data ?? []).map((e) => (
              <li key={`${e.at}${e.what}`} className="border-b hair py-1 flex justify-between gap-3">
                <span>
                  {e.what} <span className="second">{e.about}</span>
                </span>
                <span className="num second">{when(e.at)}</span>
              </li>
            ))}
          </ul>
        )}
      </section>
    </Page>
  );
}

function Password() {
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const [again, setAgain] = useState("");
  const change = useWrite(
    () => must(client.POST("/api/session/password", { body: { old, new: fresh } })),
    () => {
      setOld("");
      setFresh("");
      setAgain("");
    },
  );
  const differs = again !== "" && again !== fresh;
  return (
    <form
      className="mt-3 flex flex-col gap-3 max-w-xs"
      onSubmit={(e) => {
        e.preventDefault();
        if (!differs) change.mutate(undefined);
      }}
    >
      <h2>Change the password</h2>
      {(
        [
          ["Password now", old, setOld, "current-password"],
          ["New password", fresh, setFresh, "new-password"],
          ["New password once more", again, setAgain, "new-password"],
        ] as const
      ).map(([label, value, set, kind]) => (
        <label key={label} className="flex flex-col gap-1">
          {label}
          <input
            className="input input-sm w-full"
            type="password"
            autoComplete={kind}
            required
            value={value}
            onChange={(e) => set(e.target.value)}
          />
        </label>
      ))}
      {differs && <p role="status">The two new ones differ.</p>}
      <button type="submit" className="btn btn-sm btn-primary" disabled={change.isPending || differs}>
        Change it
      </button>
      {change.isSuccess && <p role="status">It is changed. Other browsers have to sign in again.</p>}
      <Failed error={change.error} />
    </form>
  );
}
