import { Navigate, Route, Routes, useLocation } from "react-router";
import { useSession } from "../api/queries";
import { Account } from "../sheets/account/Account";
import { Intake } from "../sheets/intake/Intake";
import { Projects } from "../sheets/projects/Projects";
import { SHEETS } from "../sheets/registry";
import { SignIn } from "../sheets/signin/SignIn";
import { Failed, Skeleton } from "../ui/state";
import { Frame } from "./Frame";

export function App() {
  const session = useSession();
  const here = useLocation();
  if (session.isPending) return <Loading error={session.failureReason} />;
  if (session.error) return <Loading error={session.error} />;
  if (!session.data.username)
    return (
      <Routes>
        <Route path="/sign-in" element={<SignIn demo={session.data.demo} />} />
        <Route path="*" element={<Navigate to="/sign-in" state={{ from: here.pathname }} replace />} />
      </Routes>
    );
  return (
    <Routes>
      <Route element={<Frame user={session.data.username} />}>
        <Route path="/" element={<Projects />} />
        <Route path="/account" element={<Account />} />
        <Route path="/p/:project" element={<Intake />} />
        {SHEETS.flatMap((sheet) =>
          Object.entries(sheet.pages).map(([page, element]) => (
            <Route
              key={`${sheet.path}/${page}`}
              path={`/p/:project/b/:build/${sheet.path}${page && `/${page}`}`}
              element={element}
            />
          )),
        )}
        <Route path="/sign-in" element={<Navigate to={wanted(here.state)} replace />} />
        <Route path="*" element={<Navigate to="/" replace />} />
      </Route>
    </Routes>
  );
}

/** The page someone asked for before they were sent to sign in; one that a browser would take for another host's is none of ours. */
function wanted(state: { from?: string } | null): string {
  const from = state?.from ?? "/";
  return /^\/(?![/\\])/.test(from) ? from : "/";
}

function Loading({ error }: { error: Error | null }) {
  return (
    <main className="p-8">
      <div className="wordmark">Eddyfall</div>
      <Failed error={error} />
      <Skeleton />
    </main>
  );
}
