// Copies: those of a site that stand at relays while this machine is off.
import { useQuery } from "@tanstack/react-query"
import { answer, api, of, queries, useOperations, type StandingCopy } from "./api"
import { left, may } from "./Guests"
import { useRelays } from "./InviteForm"
import { Twice } from "./Moving"
import { useAct } from "./Restore"
import { Mono, Notice, Word } from "./ui"

const look = 10000 // how often relays are asked what stands there, in milliseconds

export function Copies({ name }: { name: string }) {
  const relays = useRelays()
  const standing = useQuery({
    queryKey: ["standing", name],
    queryFn: () => answer(api.GET("/api/v1/standing", { params: { query: { site: name, secrets: true } } })),
    refetchInterval: look,
    enabled: relays.length > 0,
  }).data
  const sending = useOperations().data?.find((o) => o.kind === "stand" && o.sites[0]?.site === name)
  const { fault, act } = useAct()
  const send = (relay: string, remarks: boolean) =>
    act(async () => {
      await answer(api.POST("/api/v1/sites/{name}/standing", { ...of({ name }), body: { relay, remarks } }))
      await queries.invalidateQueries({ queryKey: ["standing"] })
    })
  if (relays.length === 0) return null
  const copies = standing?.copies ?? []
  const without = relays.filter((r) => !copies.some((c) => c.relay === r.host))
  const problem = sending?.state === "failed" ? sending.sites[0]?.problem : undefined
  return (
    <section className="mt-8 max-w-3xl" aria-label="Standing copies">
      <h2 className="text-[15px] font-semibold">While this machine is off</h2>
      <p className="text-[13px] text-soft">
        A copy stands at a relay that keeps some. Its mail comes home, and so do its remarks when it ends.
      </p>
      {copies.map((c) => (
        <Copy
          key={c.relay}
          copy={c}
          busy={sending?.state === "running"}
          update={() => void send(c.relay ?? "", false)}
        />
      ))}
      {without.map((r) => (
        <p key={r.host} className="mt-2 border-t border-line pt-2 text-[13px]">
          <Word disabled={sending?.state === "running"} onClick={() => void send(r.host, true)}>
            {sending?.state === "running" ? "sending…" : `Put a copy up at ${r.host}`}
          </Word>
        </p>
      ))}
      {Object.entries<string>(standing?.unreached ?? {}).map(([host, why]) => (
        <Notice key={host} tone="fail">
          {host} does not tell what stands there: {why}
        </Notice>
      ))}
      {(fault ?? problem) && <Notice tone="fail">{fault ?? problem}</Notice>}
    </section>
  )
}

function Copy({ copy: c, busy, update }: { copy: StandingCopy; busy: boolean; update: () => void }) {
  const { fault, act } = useAct()
  const end = () =>
    act(async () => {
      await answer(
        api.DELETE("/api/v1/standing/{name}", {
          params: { path: { name: c.key }, query: { relay: c.relay } },
        }),
      )
      await queries.invalidateQueries({ queryKey: ["standing"] })
    })
  return (
    <div className="mt-2 border-t border-line pt-2">
      <p className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <a
          href={c.address}
          target="_blank"
          rel="noreferrer"
          className="break-all underline underline-offset-4"
        >
          <Mono>{c.address ?? c.relay ?? ""}</Mono>
        </a>
        <span
          className={c.state === "failed" ? "text-[13px] font-semibold text-fail" : "text-[13px] text-soft"}
        >
          {stateOf(c)}
        </span>
      </p>
      <p className="text-[13px] text-soft">
        {c.password ? (
          <>
            Password <Mono>{c.password}</Mono>.{" "}
          </>
        ) : null}
        Guests may {may(c)}. {(c.bytes / 2 ** 20).toFixed(0)} MB
        {c.updated_at && `, sent ${new Date(c.updated_at).toLocaleString("sv").slice(0, 16)}`}.
        {!!c.remarked && ` Open remarks: ${c.remarked}.`}
        {!!c.mails && ` Mails that come home soon: ${c.mails}.`}
      </p>
      <p className="flex gap-x-5 text-[13px]">
        <Word disabled={busy || c.state === "making"} onClick={update}>
          {busy ? "sending…" : "Bring it up to date"}
        </Word>
        <Twice what="End it" yes="end it; mail and remarks come home first" act={() => void end()} />
      </p>
      {(fault ?? c.why) && <Notice tone="fail">{fault ?? c.why}</Notice>}
    </div>
  )
}

// stateOf is how a copy stands, in words.
export function stateOf(c: StandingCopy): string {
  switch (c.state) {
    case "making":
      return "being put up"
    case "failed":
      return "what was sent last could not be put up"
    case "over":
      return c.why ? "was ended" : "its time is over"
    default:
      return `stands for ${left(c.until)}`
  }
}
