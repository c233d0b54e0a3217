import { Link } from "react-router";
import { useDeliveries } from "../../../api/queries";

/** New deliveries of this build that were rehearsed. */
export function Deliveries({ project, build }: { project: number; build: number }) {
  const known = useDeliveries(project, build).data ?? [];
  if (!known.length) return null;
  return (
    <section aria-label="Deliveries">
      <h2>Deliveries over build {build}</h2>
      <ul className="mt-1">
        {known.map((d) => (
          <li key={d.id} className="border-b hair py-1">
            <Link className="link" to={`/p/${project}/b/${build}/intake/delivery/${d.id}`}>
              {d.scene}
            </Link>{" "}
            <span className="second">
              {d.accepted
                ? `accepted as build ${d.accepted}`
                : d.behind
                  ? "the ledger went on since it was rehearsed"
                  : d.job.message}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
