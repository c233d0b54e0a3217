import { useParams } from "react-router";
import { usePlace } from "../../ui/place";
import { Failed, Skeleton } from "../../ui/state";
import { useCase } from "./queries";
import { Work } from "./Work";

export function Bench() {
  const { project, build } = usePlace();
  const number = Number(useParams().case);
  const query = useCase(project, build, number);
  if (query.isPending)
    return (
      <main className="p-[22px]">
        <Skeleton lines={8} />
        <Failed error={query.failureReason} />
      </main>
    );
  if (!query.data)
    return (
      <main className="p-[22px]">
        <Failed error={query.error} />
      </main>
    );
  return <Work key={number} project={project} build={build} of={query.data} />;
}
