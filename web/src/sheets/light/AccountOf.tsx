import type { Account, Row } from "./queries";
import { nits, stops } from "./words";

const [WIDTH, ROW] = [150, 12];

/** Stand-in less reference, part by part: bars to the left lack light, to the right have too much; lamps beneath. */
export function AccountOf({ account }: { account: Account }) {
  const rows = account.rows.filter((r) => Math.abs(r.luminance) > 1e-9 * Math.max(account.reference, 1));
  const most = Math.max(...rows.map((r) => Math.abs(r.luminance)), 1e-12);
  return (
    <section aria-label="Account">
      <h2>The account: drawn less due</h2>
      <table className="sheet-table" data-testid="account">
        <thead>
          <tr>
            <th>Part</th>
            <th>
              <span className="sr-only">As a bar</span>
            </th>
            <th className="text-right!">Light</th>
            <th className="text-right!">Stops</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={r.part} title={r.means} className={r.shown ? "" : "second"}>
              <td className="whitespace-nowrap">{r.part}</td>
              <td>
                <Bar row={r} most={most} />
              </td>
              <td className="num text-right whitespace-nowrap">{signed(r.luminance, account)}</td>
              <td className="num text-right whitespace-nowrap">{r.shown ? stops(r.stops) : "too little"}</td>
            </tr>
          ))}
          {rows.length === 0 && (
            <tr>
              <td colSpan={4}>Nothing: the two agree.</td>
            </tr>
          )}
        </tbody>
      </table>
      <p className="second">
        Rows add up to the whole difference. Stops: how much brighter the frame is than with that part alone
        put right; too little: less than floor and noise can tell.
      </p>
      {account.lights.length > 0 && <Lights account={account} />}
    </section>
  );
}

function Bar({ row, most }: { row: Row; most: number }) {
  const half = WIDTH / 2;
  const wide = (Math.abs(row.luminance) / most) * (half - 4);
  const error = Math.min((2 * row.error) / most, 1) * (half - 4);
  const x = row.luminance < 0 ? half - wide : half;
  const end = row.luminance < 0 ? half - wide : half + wide;
  return (
    <svg width={WIDTH} height={ROW} viewBox={`0 0 ${WIDTH} ${ROW}`} aria-hidden="true" className="block">
      <line x1={half} x2={half} y1={0} y2={ROW} stroke="currentColor" />
      <rect
        x={x}
        y={2}
        width={wide}
        height={ROW - 4}
        fill={row.shown ? (row.luminance < 0 ? "var(--color-primary)" : "var(--color-error)") : "none"}
        stroke="currentColor"
        strokeWidth={row.shown ? 0 : 1}
      />
      {error > 0.5 && (
        <line x1={end - error} x2={end + error} y1={ROW / 2} y2={ROW / 2} stroke="currentColor" />
      )}
    </svg>
  );
}

function Lights({ account }: { account: Account }) {
  return (
    <table className="sheet-table mt-2" data-testid="lights">
      <thead>
        <tr>
          <th>Light</th>
          <th className="text-right!">Drawn</th>
          <th className="text-right!">Due</th>
        </tr>
      </thead>
      <tbody>
        {account.lights
          .filter((l) => l.standin > 0 || l.reference > 0)
          .map((l) => (
            <tr key={l.light}>
              <td>{l.light}</td>
              <td className="num text-right">{l.standin > 0 ? nits(l.standin) : "in lightmaps"}</td>
              <td className="num text-right">{nits(l.reference)}</td>
            </tr>
          ))}
      </tbody>
    </table>
  );
}

const EXACT = 1e-5; // of the frame's light: as exactly as rows add up

function signed(v: number, { standin, reference }: Account): string {
  if (Math.abs(v) < EXACT * Math.max(standin, reference)) return "0 nit";
  return `${v < 0 ? "−" : "+"}${nits(Math.abs(v))}`;
}
