import { useQuery } from "@tanstack/react-query";
import { api } from "./api";
import { Empty, Fault, Sheet, Td, Th } from "./parts";

export function ActivityPage() {
  const activity = useQuery({ queryKey: ["activity"], queryFn: api.activity });
  return (
    <div className="space-y-4">
      <h1 className="text-xl font-semibold">Activity</h1>
      {activity.error && <Fault>{activity.error.message}</Fault>}
      <Sheet>
        {activity.data?.length === 0 ? <Empty>Nothing has been done yet.</Empty> : (
          <table className="w-full" data-testid="activity">
            <thead><tr><Th>When</Th><Th>Who</Th><Th>Did</Th><Th>To</Th><Th>Detail</Th></tr></thead>
            <tbody>
              {activity.data?.map((a) => (
                <tr key={a.id}>
                  <Td mono>{a.at.slice(0, 19).replace("T", " ")}</Td><Td>{a.actor}</Td><Td>{a.action}</Td><Td><span className="font-medium">{a.object}</span></Td>
                  <td className="max-w-xl border-t border-line/70 px-3 py-1.5"><div className="truncate font-mono text-xs text-soft" title={a.detail}>{a.detail}</div></td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Sheet>
    </div>
  );
}
