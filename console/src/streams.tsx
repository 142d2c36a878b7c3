import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api } from "./api";
import { bytes, count, Empty, Fault, Sheet, Td, Th } from "./parts";

export function StreamsPage() {
  const topics = useQuery({ queryKey: ["topics"], queryFn: api.topics });
  const definitions = useQuery({ queryKey: ["definitions"], queryFn: api.definitions });
  const [chosen, setChosen] = useState<string>();
  return (
    <div className="space-y-4">
      <h1 className="text-xl font-semibold">Topics and streams</h1>
      {topics.error && <Fault>{topics.error.message}</Fault>}
      <Sheet title="Built-in topics" aside="choose one to see its newest messages">
        {topics.data?.length === 0 ? <Empty>No topics yet. Create one with <code className="font-mono">fiume topic create NAME</code>.</Empty> : (
          <table className="w-full" data-testid="topics">
            <thead><tr><Th>Topic</Th><Th right>Partitions</Th><Th right>Messages</Th><Th right>Size</Th><Th>Kept</Th></tr></thead>
            <tbody>
              {topics.data?.map((t) => (
                <tr key={t.name} className={chosen === t.name ? "bg-river-pale/50" : ""}>
                  <Td><button type="button" className="cursor-pointer font-medium text-river hover:underline" onClick={() => setChosen(t.name)}>{t.name}</button></Td>
                  <Td right>{t.partitions.length}</Td><Td right>{count(t.messages)}</Td><Td right>{bytes(t.bytes)}</Td><Td><span className="text-soft">{t.retain?.toLowerCase() ?? "for ever"}</span></Td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Sheet>
      {chosen && <Messages topic={chosen} />}
      <Sheet title="Declared">
        {definitions.data?.length === 0 ? <Empty>Nothing is declared yet. Begin with DECLARE STREAM.</Empty> : (
          <ul>
            {definitions.data?.map((d) => (
              <Disclosure as="li" key={d.name} className="border-t border-line/70 first:border-0">
                <DisclosureButton className="flex w-full cursor-pointer items-center gap-3 px-4 py-2 text-left hover:bg-paper/70">
                  <span className="w-20 text-xs text-soft">{d.kind}</span><span className="font-medium">{d.name}</span>
                </DisclosureButton>
                <DisclosurePanel className="px-4 pb-4 pl-27">
                  <pre className="font-mono text-xs leading-relaxed">{d.sql}</pre>
                  {d.kind === "stream" && <Link className="mt-2 inline-block text-river hover:underline" to={`/streams/${encodeURIComponent(d.name)}/lateness`}>How late are its rows?</Link>}
                </DisclosurePanel>
              </Disclosure>
            ))}
          </ul>
        )}
      </Sheet>
    </div>
  );
}

function Messages({ topic }: { topic: string }) {
  const messages = useQuery({ queryKey: ["messages", topic], queryFn: () => api.messages(topic) });
  return (
    <Sheet title={`Newest messages of ${topic}`}>
      {messages.error && <Fault>{messages.error.message}</Fault>}
      {messages.data?.length === 0 ? <Empty>The topic is empty.</Empty> : (
        <table className="w-full">
          <thead><tr><Th>Place</Th><Th>Arrived</Th><Th>Key</Th><Th>Value</Th></tr></thead>
          <tbody>
            {messages.data?.map((m) => (
              <tr key={`${m.partition}:${m.offset}`}><Td mono>{m.partition}:{m.offset}</Td><Td mono>{new Date(m.at).toISOString().slice(11, 23)}</Td><Td mono>{m.key ?? "–"}</Td><Td mono wide>{m.value}</Td></tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  );
}
