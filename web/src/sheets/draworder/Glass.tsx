import { Failed } from "../../ui/state";
import { figure, percent } from "../../ui/words";
import type { Look } from "../look";
import { type ChainOf, type GlassOf, type Pose, useChain } from "./queries";

/** What is not seen behind what lets light through, at the viewpoint. */
export function LostTable({ of }: { of: GlassOf }) {
  if (of.panes.length === 0 && of.shut.length === 0) return null;
  return (
    <section aria-label="Behind glass" className="mt-3">
      <h2>Behind glass</h2>
      {of.panes.length > 0 && (
        <p className="second">
          {of.panes.join(", ")} {of.panes.length === 1 ? "lets" : "let"} light through,{" "}
          {of.layers === 1 ? "one layer deep" : `${of.layers} layers deep`}.
          {of.lost.length === 0 && " Nothing behind is lost."}
        </p>
      )}
      {of.shut.map((one) => (
        <p key={one.material} data-testid="shut">
          <b className="text-error">{one.material}</b> ({one.things.join(", ")}) lets no light through:{" "}
          {one.broken.join(", ")} <span className="second">on {figure(one.pixels)} px</span>
        </p>
      ))}
      {of.lost.length > 0 && (
        <table className="sheet-table mt-1" data-testid="lost">
          <thead>
            <tr>
              <th>Lost</th>
              <th>behind</th>
              <th>why</th>
              <th className="text-right!">Pixels</th>
              <th className="text-right!">Light there</th>
            </tr>
          </thead>
          <tbody>
            {of.lost.map((one) => (
              <tr key={`${one.drawable} ${one.how}`}>
                <td className="text-error font-semibold">{one.drawable}</td>
                <td>{one.panes.join(", ")}</td>
                <td>{one.how}</td>
                <td className="num text-right whitespace-nowrap">
                  {figure(one.pixels)} of {figure(one.all_pixels)}
                </td>
                <td className="num text-right">
                  {one.brighter > 0 ? "+" : "−"}
                  {percent(Math.abs(one.brighter), 1)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

/** The chain that the glass in a pixel hangs by, link by link; nothing where there is no glass. */
export function ChainAt({ look, pose, at }: { look: Look; pose: Pose; at: [number, number] | null }) {
  const found = useChain(look, pose, at);
  if (at === null) return null;
  const chain = found.data?.chain;
  return (
    <>
      <Failed error={found.error} />
      {chain && <Chain of={chain} />}
    </>
  );
}

function Chain({ of }: { of: ChainOf }) {
  const bends = of.bends_px > 0.005;
  return (
    <section aria-label="Chain of the glass" className="mt-3">
      <h2>
        {of.first_broken
          ? `${of.drawable}: ${of.first_broken} does not hold`
          : `${of.drawable} lets through what lies behind it`}
      </h2>
      <p className="second" data-testid="chain-keeps">
        keeps {share(of.measured)} of what is behind · with every link whole {share(of.whole)} · real glass{" "}
        {share(of.due)}
        {bends && ` · reads ${of.bends_px.toFixed(2)} px off`}
        {bends && of.true_px !== null && `, ${of.true_px.toFixed(2)} px in truth`}
      </p>
      <table className="sheet-table mt-1" data-testid="chain">
        <thead>
          <tr>
            <th>Link</th>
            <th>is</th>
            <th>decided by</th>
          </tr>
        </thead>
        <tbody>
          {of.links.map((link) => (
            <tr key={link.name} className={link.holds ? "" : "font-semibold"}>
              <td className={`whitespace-nowrap ${link.holds ? "" : "text-error"}`}>
                <span aria-hidden="true" className={link.holds ? "text-success" : ""}>
                  {link.holds ? "✓" : "✗"}
                </span>{" "}
                <span className="sr-only">{link.holds ? "holds: " : "broken: "}</span>
                {link.name}
              </td>
              <td>
                {link.value}
                {!link.holds && <span className="second block">needs {link.need}</span>}
              </td>
              <td className="second wrap-anywhere">
                <Dotted path={link.decides} />
                {link.fix && <span className="block text-base-content">would mend it: {link.fix}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="second">
        Behind it, nearest first:{" "}
        {of.behind.map((b) => `${b.drawable}${b.in_copy ? "" : " (in no copy)"}`).join(", ")}.
      </p>
    </section>
  );
}

/** A path that breaks after its dots. */
function Dotted({ path }: { path: string }) {
  return path.split(".").map((part, k) => (
    // biome-ignore lint/suspicious/noArrayIndexKey: parts of one path, in its order
    <span key={k}>
      {k > 0 && "."}
      {k > 0 && <wbr />}
      {part}
    </span>
  ));
}

function share(rgb: number[]): string {
  const same = Math.max(...rgb) - Math.min(...rgb) < 5e-4;
  return (same ? rgb.slice(0, 1) : rgb).map((v) => v.toFixed(3)).join(" ");
}
