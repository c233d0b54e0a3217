import { useState } from "react";
import { client, must } from "../../api/client";
import { useWrite } from "../../api/writes";
import { Failed } from "../../ui/state";

export function SignIn({ demo }: { demo: boolean }) {
  const [username, setUsername] = useState("");
  const [password, setPassword] = useState("");
  const enter = useWrite(async () => {
    await must(client.GET("/api/session"));
    return must(client.POST("/api/session", { body: { username, password } }));
  });
  return (
    <main className="h-full grid place-items-center p-6">
      <div className="w-[860px] max-w-full grid md:grid-cols-[1fr_320px] bg-base-100 border border-base-content">
        <div className="p-8 border-b md:border-b-0 md:border-r border-base-content flex flex-col gap-3">
          <div className="wordmark text-[22px]!">Eddyfall</div>
          <h1 className="text-[24px]! leading-tight max-w-md">
            Find out why a build does not render cleanly, and prove the repair.
          </h1>
          <p className="second max-w-md">
            Bring a scene. Sweep it from every viewpoint. Drill a core through one pixel, line up single
            changes, keep the one that clears it, and hand over the patch.
          </p>
          <Plumb />
        </div>
        <form
          className="p-8 flex flex-col gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            enter.mutate(undefined);
          }}
        >
          <h2>Sign in</h2>
          <label className="flex flex-col gap-1">
            Name
            <input
              className="input input-sm w-full"
              autoComplete="username"
              required
              value={username}
              onChange={(e) => setUsername(e.target.value)}
            />
          </label>
          <label className="flex flex-col gap-1">
            Password
            <input
              className="input input-sm w-full"
              type="password"
              autoComplete="current-password"
              required
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
          </label>
          <button type="submit" className="btn btn-primary btn-sm" disabled={enter.isPending}>
            Sign in
          </button>
          <Failed error={enter.error} />
          {demo && (
            <p className="second">
              This is the demo: sign in as <code>demo</code> with the password <code>weirgate</code>.
            </p>
          )}
        </form>
      </div>
    </main>
  );
}

/** The sounding line, as a sign of the house. */
function Plumb() {
  const stages = ["Symptom", "Spot", "Suspects", "Trials", "Fix", "Proof"];
  return (
    <svg viewBox="0 0 480 60" className="w-full max-w-md mt-4" aria-hidden="true">
      <path d="M4 16H452" stroke="currentColor" strokeWidth="2" />
      {stages.map((s, i) => (
        <g key={s} transform={`translate(${4 + i * 86} 0)`}>
          <path d="M0 10v12" stroke="currentColor" strokeWidth="2" />
          <text y="42" fontSize="12" fontWeight="600" fill="currentColor">
            {s}
          </text>
        </g>
      ))}
      <path d="M452 9l12 4v6l-12 4z" fill="var(--color-accent)" />
    </svg>
  );
}
