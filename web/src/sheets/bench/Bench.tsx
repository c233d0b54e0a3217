import { useParams } from "react-router";
import { Page } from "../../ui/Page";
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
      <Page>
        <Skeleton lines={8} />
        <Failed error={query.failureReason} />
      </Page>
    );
  if (!query.data)
    return (
      <Page>
        <Failed error={query.error} />
      </Page>
    );
  return <Work key={number} project={project} build={build} of={query.data} />;
}
