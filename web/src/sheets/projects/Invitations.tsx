import { useQuery } from "@tanstack/react-query";
import { client, must } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/writes";
import { Failed } from "../../ui/state";

/** What one is invited to, to accept or decline. */
export function Invitations() {
  const invitations = useQuery({
    queryKey: keys.invitations(),
    queryFn: () => must(client.GET("/api/invitations")),
  });
  const path = (id: number) => ({ params: { path: { invitation_id: id } } });
  const accept = useWrite((id: number) => must(client.POST("/api/invitations/{invitation_id}", path(id))));
  const decline = useWrite((id: number) => must(client.DELETE("/api/invitations/{invitation_id}", path(id))));
  if (!invitations.data?.length) return null;
  return (
    <section className="my-3 border border-base-content bg-base-100 p-3" aria-label="Invitations">
      <h2>You are invited</h2>
      <ul>
        {invitations.data.map((i) => (
          <li key={i.id} className="py-1 flex gap-3 items-center">
            <span className="flex-1">
              <b>{i.project}</b> as {i.role}
              {i.invited_by && <span className="second">, by {i.invited_by}</span>}
            </span>
            <button type="button" className="btn btn-sm btn-primary" onClick={() => accept.mutate(i.id)}>
              Accept
            </button>
            <button type="button" className="btn btn-sm" onClick={() => decline.mutate(i.id)}>
              Decline
            </button>
          </li>
        ))}
      </ul>
      <Failed error={accept.error ?? decline.error} />
    </section>
  );
}
