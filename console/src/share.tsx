// Links by which others look at a board without a name.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "./api";
import { Button, Empty, Fault, Field, Panel, Rows, Select } from "./parts";
import { moment } from "./zone";
import { say } from "./i18n";

const lengths = [
  { seconds: 3600, words: say("an hour") },
  { seconds: 86_400, words: say("a day") },
  { seconds: 7 * 86_400, words: say("a week") },
  { seconds: 90 * 86_400, words: say("90 days") },
];

export function ShareBoard({ board, onClose }: { board: string; onClose: () => void }) {
  const cache = useQueryClient();
  const links = useQuery({ queryKey: ["links", board], queryFn: () => api.boardLinks(board) });
  const again = () => void cache.invalidateQueries({ queryKey: ["links", board] });
  const [seconds, setSeconds] = useState(86_400);
  const make = useMutation({ mutationFn: () => api.newBoardLink(board, seconds), onSuccess: again });
  const drop = useMutation({ mutationFn: (id: string) => api.dropBoardLink(board, id), onSuccess: again });
  const fault = make.error ?? drop.error ?? links.error;
  return (
    <Panel open title={say("Share the board")} onClose={onClose}>
      <p className="text-soft">
        {say("Whoever has the link looks at this board and at nothing else, without a name, until it ends.")}
      </p>
      <div className="flex flex-wrap items-end gap-3">
        <Field label={say("It holds for")}>
          <Select testid="link-length" value={seconds} onChange={(e) => setSeconds(Number(e.target.value))}>
            {lengths.map((l) => (
              <option key={l.seconds} value={l.seconds}>
                {l.words}
              </option>
            ))}
          </Select>
        </Field>
        <Button kind="main" testid="make-link" disabled={make.isPending} onClick={() => make.mutate()}>
          {say("Make a link")}
        </Button>
      </div>
      {fault && <Fault>{fault.message}</Fault>}
      {make.data && (
        <div className="space-y-2">
          <p className="text-soft">{say("It is shown this once. Copy it now.")}</p>
          <p
            data-testid="link"
            className="rounded border border-line bg-paper p-3 font-mono text-xs break-all select-all"
          >
            {make.data.url}
          </p>
        </div>
      )}
      {links.data?.length === 0 ? (
        <Empty>{say("No links to it.")}</Empty>
      ) : (
        <Rows
          testid="links"
          of={links.data ?? []}
          id={(l) => l.id}
          columns={[
            { head: say("Link"), mono: true, of: (l) => l.id },
            { head: say("Of"), of: (l) => l.owner },
            { head: say("Ends"), of: (l) => moment(l.ends).slice(0, 16) },
            {
              right: true,
              of: (l) => (
                <Button small kind="danger" onClick={() => drop.mutate(l.id)}>
                  {say("End")}
                </Button>
              ),
            },
          ]}
        />
      )}
    </Panel>
  );
}
