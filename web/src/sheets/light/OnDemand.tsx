import type { UseQueryResult } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Failed, Skeleton } from "../../ui/state";
import type { Look } from "../look";

/** A question that is only asked once somebody wants to know, and again once what is looked at is another. */
export function OnDemand<T>({
  look,
  name,
  title,
  button,
  says,
  useFound,
  children,
}: {
  look: Look;
  name: string;
  title: string;
  button: string;
  says: string;
  useFound: (look: Look, wanted: boolean) => UseQueryResult<T, Error>;
  children: (found: T) => ReactNode;
}) {
  const of = `${look.viewpoint} ${look.target} ${look.stamp} ${look.state}`;
  const [asked, setAsked] = useState<string | null>(null);
  const found = useFound(look, asked === of);
  return (
    <section aria-label={name} className="mt-4">
      <h2>{title}</h2>
      {asked !== of && (
        <p className="mt-1 flex gap-2 items-center">
          <button type="button" className="btn btn-sm" onClick={() => setAsked(of)}>
            {button}
          </button>
          <span className="second">{says}</span>
        </p>
      )}
      <Failed error={found.error} />
      {asked === of && found.isPending && !found.error && <Skeleton lines={4} />}
      {found.data && children(found.data)}
    </section>
  );
}
