import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import { patientFetch } from "../../api/patient";
import { Failed, Skeleton } from "../../ui/state";
import { figure, percent, shares } from "../../ui/words";

type Autopsy = Schemas["AutopsyDocument"];
type Light = Autopsy["lights"][number];
type Test = Light["tests"][number];

const TONE: Record<string, string> = {
  "lit through": "text-error",
  missing: "text-error",
  false: "text-error",
  agrees: "text-success",
};

const THROWS: Record<string, string> = {
  none: "throws no shadow",
  whole: "blocks all light",
  dithered: "blocks light by a pattern",
  tinted: "colours the light",
};

const reaches = (l: Light) => l.verdict !== "out of reach";

/** Which shadows are due at a pixel, which are drawn, and which test lost them; asked when it is opened. more: where to read on. */
export function Shadows({
  base,
  stamp,
  at,
  more,
}: {
  base: string;
  stamp: string;
  at: [number, number];
  more?: string;
}) {
  const found = useQuery({
    queryKey: keys.autopsy(base, stamp, at),
    queryFn: async () => {
      const answer = await patientFetch(`${base}?x=${at[0]}&y=${at[1]}`);
      const body = await answer.json();
      if (!answer.ok) throw new Error(body.detail);
      return body as Autopsy;
    },
    retry: false,
    placeholderData: (before) => before,
    staleTime: 60_000,
  });
  return (
    <section aria-label="Shadows at this pixel" className="mt-3">
      <h2>Shadows here</h2>
      {more && (
        <p>
          <Link className="underline" to={more}>
            How far they reach, and what would cure them
          </Link>
        </p>
      )}
      <Failed error={found.error} />
      {found.isPending && <Skeleton lines={3} />}
      {found.data && !found.error && found.data.lights.length === 0 && (
        <p className="second">No light shines.</p>
      )}
      {found.data &&
        !found.error &&
        found.data.lights.filter(reaches).map((l) => <OfLight key={l.light} of={l} />)}
      {found.data && !found.error && !found.data.lights.every(reaches) && (
        <p className="second border-t hair py-[6px]">
          Out of reach:{" "}
          {found.data.lights
            .filter((l) => !reaches(l))
            .map((l) => l.light)
            .join(", ")}
        </p>
      )}
      {found.data && !found.error && <Elsewhere of={found.data} />}
    </section>
  );
}

/** The same pixel in other roles and for other targets, where that differs. */
function Elsewhere({ of }: { of: Autopsy }) {
  const here = new Map(of.lights.map((l) => [l.light, l.verdict]));
  const rows = of.elsewhere.flatMap((e) =>
    e.lights.filter((l) => here.get(l.light) !== l.verdict).map((l) => ({ e, l })),
  );
  if (!of.elsewhere.length) return null;
  return (
    <div className="border-t hair py-[6px]">
      <b>In other roles and targets</b>
      {rows.length === 0 && <p className="second">The same.</p>}
      <ul>
        {rows.map(({ e, l }) => (
          <li key={`${e.target} ${e.role} ${l.light}`}>
            <span className="num">
              {[e.role ? `role ${e.role}` : "", e.target ? `target ${e.target}` : ""]
                .filter(Boolean)
                .join(", ") || "its own role, no target"}
            </span>
            : {l.light} <b className={TONE[l.verdict] ?? ""}>{l.verdict}</b>
            {l.lost_at && `, lost at: ${l.lost_at}`}
          </li>
        ))}
      </ul>
    </div>
  );
}

function OfLight({ of }: { of: Light }) {
  const failed = of.tests.filter((t) => !t.passed);
  return (
    <div className="border-t hair py-[6px]">
      <p>
        <b className="num">{of.light}</b>{" "}
        <b className={TONE[of.verdict] ?? ""}>{of.verdict === "agrees" ? "✓ as it should be" : of.verdict}</b>
      </p>
      <p className="second">
        {of.due ? `A shadow of ${of.caster} is due, ${figure(of.caster_m)} m away; ` : "No shadow is due; "}
        {percent(of.drawn, 0)} of the light is let through
        {of.stops !== null &&
          of.stops > 0.005 &&
          `, which is ${figure(Number(of.stops.toPrecision(2)))} stops here`}
        .{of.clears !== null && ` It clears ${of.clears} by ${figure(of.clears_deg)}°.`}
        {of.wrote.length > 0 && of.technique !== "rays" && ` The map's texels hold ${of.wrote.join(", ")}.`}
        {of.written_as && ` That is ${of.written_as}.`}
        {of.behind.length > 0 && ` Behind that: ${of.behind.join(", ")}.`}
      </p>
      {of.passed.map((p) => (
        <p className="second" key={`${p.name} ${p.away_m}`}>
          It goes through <span className="num">{p.name}</span>, {figure(p.away_m)} m away, which keeps{" "}
          {shares(p.keeps)} of what is seen through it and {THROWS[p.throws] ?? p.throws}.
        </p>
      ))}
      {of.too_bright_stops !== null && Math.abs(of.too_bright_stops) > 0.005 && (
        <p className={of.verdict === "lit through" ? "text-error font-semibold" : "second"}>
          Its light is {figure(Math.abs(Number(of.too_bright_stops.toPrecision(2))))} stops too{" "}
          {of.too_bright_stops > 0 ? "bright" : "dark"} for that
        </p>
      )}
      {of.lost_at && <p className="text-error font-semibold">Lost at: {of.lost_at}</p>}
      {failed.length > 0 && of.due && (
        <ul>
          {failed.map((t) => (
            <Failure key={t.name} of={t} />
          ))}
        </ul>
      )}
      {of.retried && (
        <p className="second">
          Drawn with <span className="num">{of.retried.leaf}</span> {figure(of.retried.value)}:{" "}
          {percent(of.retried.drawn, 0)} let through
          {of.retried.lost_at ? `, lost at: ${of.retried.lost_at}` : ", the shadow is there"}.
        </p>
      )}
      {of.tests.length > 0 && (
        <details>
          <summary className="second cursor-pointer">
            {of.tests.length - failed.length} of {of.tests.length} tests pass
          </summary>
          <ul>
            {of.tests.map((t) => (
              <li key={t.name} className={t.passed ? "second" : "text-error"}>
                {t.passed ? "✓" : "✗"} {t.name} <span className="num">{t.leaf}</span>
              </li>
            ))}
          </ul>
        </details>
      )}
    </div>
  );
}

function Failure({ of }: { of: Test }) {
  const unit = of.unit === "-" ? "" : ` ${of.unit}`;
  return (
    <li className="second">
      {of.name}
      {of.value !== null && (
        <span className="num">
          : {figure(of.value)}
          {unit}, limit {figure(of.limit)}
          {unit}
        </span>
      )}
      ; set by {of.level}: <span className="num">{of.leaf}</span>
      {of.critical !== null && (
        <span>
          . It would pass at <span className="num">{figure(of.critical)}</span> (a prediction)
        </span>
      )}
    </li>
  );
}
