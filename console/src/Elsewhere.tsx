// Where else a site lives: the hosting accounts that it came from or went to, what differs there, and what is moved between them.
import { useState } from "react"
import { Link } from "wouter"
import {
  answer,
  api,
  of,
  useImage,
  useOperations,
  type Account,
  type AccountPictures,
  type Operation,
  type Pushed,
} from "./api"
import { useAccounts } from "./Hosting"
import { count, Pull, Push, Twice, usePush } from "./Moving"
import { useAct } from "./Restore"
import { Mono, Notice, Word } from "./ui"

export function Elsewhere({ name }: { name: string }) {
  const all = (useAccounts().data ?? []).filter((a) => a.site === name)
  if (all.length === 0) return null
  const line = [...all].sort((a, b) => Number(!a.of) - Number(!b.of)) // staging stands before the live one
  return (
    <section className="mt-8" data-elsewhere>
      <h2 className="mb-1 text-[15px] font-semibold">Where else it lives</h2>
      <ol className="border-t border-line pt-2">
        <Station>
          <span className="font-medium">here</span>
        </Station>
        {line.map((a) => (
          <Station key={a.name}>
            <Place account={a} site={name} />
          </Station>
        ))}
      </ol>
    </section>
  )
}

// Station is one place on the line.
const Station = ({ children }: { children: React.ReactNode }) => (
  <li className="relative ml-1.5 border-l-2 border-line-strong pb-3 pl-5 last:border-transparent">
    <span
      aria-hidden
      className="absolute top-1.5 -left-[7px] size-3 rounded-full border-2 border-accent bg-paper"
    />
    {children}
  </li>
)

// Place is an account of the site's, with what differs there now where that was asked.
function Place({ account: a, site }: { account: Account; site: string }) {
  const look = usePush(a.name)
  const { fault, act } = useAct()
  const looking = look.watched?.state === "running"
  const seen = look.dry && look.watched?.state === "done" ? look.result : undefined
  const problem = look.watched?.sites[0]?.problem ?? look.fault ?? fault
  const last = useLastPush(a.name)
  const { comparing, compared, compare } = useComparison(a.name, act)
  return (
    <>
      <p className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <Link
          href="/hosting"
          className="font-medium underline decoration-accent decoration-2 underline-offset-4"
        >
          {a.name}
        </Link>
        <a href={a.url} className="underline decoration-line-strong underline-offset-4">
          <Mono>{a.url}</Mono>
        </a>
        <span className="text-[13px] text-soft">
          {a.pulled && `fetched ${new Date(a.pulled.at ?? 0).toLocaleString()}`}
          {last && `, pushed ${new Date(last.finished_at ?? last.created_at).toLocaleString()}`}
        </span>
      </p>
      <div className="mt-1 flex flex-wrap items-baseline gap-x-5 gap-y-1 text-[13px]">
        <Word disabled={looking} onClick={() => void look.begin(site, true)}>
          {looking ? "comparing…" : "What differs now?"}
        </Word>
        <Pull account={a} />
        <Push account={a} />
        <Word disabled={comparing} onClick={() => void compare()}>
          {comparing ? "taking pictures…" : "Compare pictures"}
        </Word>
        {last && (
          <Twice
            what="Take the last push back"
            yes="have the host be what it was before it"
            act={() =>
              void act(() =>
                answer(api.POST("/api/v1/accounts/{name}/push/back", { ...of({ name: a.name }), body: {} })),
              )
            }
          />
        )}
        <span aria-live="polite">{seen && <Numbers of={seen} />}</span>
      </div>
      {compared && <Pictures taken={compared} />}
      {problem && <Notice tone="fail">{problem}</Notice>}
    </>
  )
}

// useComparison has pictures be taken of both front pages.
function useComparison(account: string, act: (work: () => Promise<unknown>) => Promise<void>) {
  const [comparing, setComparing] = useState(false)
  const [compared, setCompared] = useState<AccountPictures>()
  const compare = () =>
    act(async () => {
      setComparing(true)
      try {
        setCompared(await answer(api.POST("/api/v1/accounts/{name}/pictures", of({ name: account }))))
      } finally {
        setComparing(false)
      }
    })
  return { comparing, compared, compare }
}

// Pictures are both front pages side by side.
const Pictures = ({ taken }: { taken: AccountPictures }) => (
  <div className="mt-2 text-[13px]">
    <p>They differ in {(100 * taken.different).toFixed(1)} % of their pixels.</p>
    <div className="mt-1 grid gap-4 sm:grid-cols-2">
      <Picture taken={taken} which="here" words={`Front page of ${taken.site} here`} />
      <Picture taken={taken} which="there" words={`Front page at ${taken.account}`} />
    </div>
  </div>
)

function Picture({ taken, which, words }: { taken: AccountPictures; which: string; words: string }) {
  const address = useImage(`/accounts/${taken.account}/pictures/${which}?at=${taken.at}`)
  return (
    <figure>
      {address && <img src={address} alt={words} className="w-full border border-line" />}
      <figcaption className="text-soft">{words}</figcaption>
    </figure>
  )
}

// useLastPush is the last push to an account that stood, if it is one that was not taken back since.
function useLastPush(account: string): Operation | undefined {
  const pushes = (useOperations().data ?? []).filter(
    (o) => o.kind === "push-account" && o.sites.some((s) => s.site === `account ${account}`) && stood(o),
  )
  return pushes.length > 0 && !pushOptions(pushes[0]).back ? pushes[0] : undefined
}

const pushOptions = (o: Operation) =>
  (o.details ?? {}) as { back?: boolean; asked?: { dry_run?: boolean }; result?: Pushed }

const stood = (o: Operation) => {
  const { back, asked, result } = pushOptions(o)
  return (
    o.state === "done" &&
    !asked?.dry_run &&
    (back || (result?.files.length ?? 0) + (result?.tables.length ?? 0) > 0)
  )
}

// Numbers tell what differs between here and there.
export const Numbers = ({ of: p }: { of: Pushed }) => {
  const go = p.new + p.changed + p.gone
  const there = p.stays + (p.stays_tables?.length ?? 0)
  if (go + p.tables.length + there === 0) return <>Nothing differs.</>
  return (
    <>
      {count(go, "file")} and {count(p.tables.length, "table")} would go there; {count(p.stays, "file")} and{" "}
      {count(p.stays_tables?.length ?? 0, "table")} are the host’s own
      {p.conflicts > 0 && <span className="text-fail">; {p.conflicts} changed on both sides</span>}.
    </>
  )
}
