// Hosting: accounts at hosts that sites are pulled from and pushed to.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, type Account, type HostChecks } from "./api"
import { AtPage } from "./HostPage"
import { Pull, Push, Twice } from "./Moving"
import { Entry } from "./PreviewForm"
import { useAct } from "./Restore"
import { Button, Mono, Notice, Word } from "./ui"

export const useAccounts = () =>
  useQuery({ queryKey: ["accounts"], queryFn: async () => (await answer(api.GET("/api/v1/accounts"))) ?? [] })

export function HostingPage() {
  const accounts = useAccounts()
  const { fault, act } = useAct()
  const all = accounts.data ?? []
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Hosting</h1>
      <p className="mb-4 max-w-3xl text-soft">
        Accounts at hosts that sites are pulled from and pushed to: by SFTP or FTP, with a shell or without.
        Passwords and keys are sealed here, and what a site’s configuration at the host holds of them stays
        there.
      </p>
      {accounts.isError && <Notice tone="fail">{accounts.error.message}</Notice>}
      {fault && <Notice tone="fail">{fault}</Notice>}
      {accounts.data && all.length === 0 && (
        <p className="pb-2 text-soft">There is no hosting account yet.</p>
      )}
      {all.map((a) => (
        <One
          key={a.name}
          account={a}
          drop={() => act(() => answer(api.DELETE("/api/v1/accounts/{name}", of({ name: a.name }))))}
          unpin={() =>
            act(() => answer(api.DELETE("/api/v1/accounts/{name}/host-key", of({ name: a.name }))))
          }
        />
      ))}
      <Add act={act} />
      <AtPage act={act} />
    </>
  )
}

// Add asks for an account.
function Add({ act }: { act: (work: () => Promise<unknown>) => Promise<void> }) {
  const nothing = { name: "", at: "", url: "", password: "" }
  const [asked, setAsked] = useState(nothing)
  const entry = (name: keyof typeof nothing, label: string, placeholder: string) => (
    <Entry
      label={label}
      name={"account-" + name}
      value={asked[name]}
      change={(value) => setAsked({ ...asked, [name]: value })}
      placeholder={placeholder}
    />
  )
  return (
    <form
      aria-label="A hosting account"
      className="mt-6 max-w-3xl"
      onSubmit={(e) => {
        e.preventDefault()
        void act(async () => {
          await answer(api.POST("/api/v1/accounts", { body: asked }))
          setAsked(nothing)
        })
      }}
    >
      <h2 className="mb-2 font-semibold">Add one</h2>
      <div className="grid gap-x-7 gap-y-3 sm:grid-cols-2">
        {entry("name", "Name", "orchard-live")}
        {entry("url", "Address at which its folder is served", "https://orchard.example")}
        {entry("at", "Where the folder is", "sftp://ines@host.example/www")}
        <label className="block text-[13px] text-soft">
          Password
          <input
            type="password"
            name="account-password"
            autoComplete="off"
            value={asked.password}
            onChange={(e) => setAsked({ ...asked, password: e.target.value })}
            className="w-full border-b border-line-strong bg-transparent font-mono text-[13px] text-ink"
          />
        </label>
      </div>
      <p className="my-2 text-[13px] text-soft">
        With a key or an agent: <Mono>vessik hosting add NAME -key FILE</Mono>
      </p>
      <Button type="submit" disabled={!asked.name || !asked.at || !asked.url}>
        Add the account
      </Button>
    </form>
  )
}

interface Doing {
  account: Account
  drop: () => void
  unpin: () => void
}

// One is an account, what it is like, and what can be done with it.
function One({ account: a, drop, unpin }: Doing) {
  const [checks, setChecks] = useState<HostChecks>()
  const [busy, setBusy] = useState(false)
  const { fault, act } = useAct()
  const look = () =>
    act(async () => {
      setBusy(true)
      try {
        setChecks(await answer(api.POST("/api/v1/accounts/{name}/check", of({ name: a.name }))))
      } finally {
        setBusy(false)
      }
    })
  return (
    <section data-account={a.name} className="border-b border-line py-3">
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <h2 className="font-medium">{a.name}</h2>
        <a href={a.url} className="underline decoration-line-strong underline-offset-4">
          {a.url}
        </a>
        <Mono className="min-w-0 truncate text-soft">{a.at}</Mono>
        <span className="grow" />
        <span className="text-[13px] text-soft">
          {a.pulled ? `fetched ${new Date(a.pulled.at ?? 0).toLocaleString()}` : "not fetched yet"}
        </span>
      </div>
      {a.leftover && (
        <p className="text-[13px] text-fail">
          A helper of ours may still be there ({a.leftover}); it is removed as soon as the host answers.
        </p>
      )}
      <div className="mt-1 flex flex-wrap items-baseline gap-x-5 gap-y-1 text-[13px]">
        <Word onClick={look} disabled={busy}>
          {busy ? "looking at the host…" : "Look at the host"}
        </Word>
        <Pull account={a} />
        <Push account={a} />
        {a.fingerprint && <Twice what="Take another host key" yes="the host has a new key" act={unpin} />}
        <Twice what="Forget it" yes="forget it, the host keeps its site" act={drop} />
      </div>
      {fault && <Notice tone="fail">{fault}</Notice>}
      {checks && <Checks found={checks} />}
    </section>
  )
}

// Checks tell step by step what is at the host.
export const Checks = ({ found }: { found: HostChecks }) => (
  <ul className="mt-2 max-w-4xl border-l-2 border-line-strong pl-3 text-[13px]">
    {found.checks.map((c) => (
      <li
        key={c.id}
        className="grid grid-cols-[3rem_minmax(0,1fr)] gap-x-3 sm:grid-cols-[3.5rem_minmax(0,13rem)_minmax(0,1fr)]"
      >
        <span className={c.passed ? "text-pass" : "font-semibold text-fail"}>
          {c.passed ? "pass" : "fail"}
        </span>
        <span>{c.title}</span>
        <span className="min-w-0 break-words text-soft max-sm:col-start-2">
          {c.observed}
          {c.remedy && <span className="block text-ink">→ {c.remedy}</span>}
        </span>
      </li>
    ))}
  </ul>
)
