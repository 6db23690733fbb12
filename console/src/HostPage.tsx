// Signing in at the account page of a host, which tells the environments and lends their passwords.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, type HostSignIn } from "./api"
import { Choice } from "./Moving"
import { Entry } from "./PreviewForm"
import { Button, Mono } from "./ui"

type Act = (work: () => Promise<unknown>) => Promise<void>

export function AtPage({ act }: { act: Act }) {
  const [page, setPage] = useState("")
  const [id, setID] = useState<string>()
  const begin = async () => setID((await answer(api.POST("/api/v1/hosts/sign-ins", { body: { page } }))).id)
  return (
    <section aria-label="A host with an account page" className="mt-8 max-w-3xl">
      <h2 className="mb-2 font-semibold">Sign in at a host’s page</h2>
      <p className="mb-2 text-[13px] text-soft">
        Where your host offers it: you let Vessik in at the host’s own page, and no password is typed here.
      </p>
      <form
        className="flex flex-wrap items-end gap-x-5 gap-y-2"
        onSubmit={(e) => {
          e.preventDefault()
          void act(begin)
        }}
      >
        <div className="grow">
          <Entry
            label="Address of the account page"
            name="host-page"
            value={page}
            change={setPage}
            placeholder="https://host.example"
          />
        </div>
        <Button type="submit" disabled={!page}>
          Ask for a code
        </Button>
      </form>
      {id && <Waiting key={id} id={id} act={act} />}
    </section>
  )
}

// Waiting shows the code until the customer has let Vessik in.
function Waiting({ id, act }: { id: string; act: Act }) {
  const said = useQuery({
    queryKey: ["host-sign-in", id],
    queryFn: () => answer(api.GET("/api/v1/hosts/sign-ins/{id}", of({ id }))),
    refetchInterval: (query) => (query.state.data?.state === "waiting" || !query.state.data ? 1000 : false),
  }).data
  if (!said) return null
  if (said.state === "refused")
    return (
      <p role="alert" className="mt-3 text-fail">
        {said.why}
      </p>
    )
  if (said.state === "done") return <Environments said={said} act={act} />
  return (
    <div className="mt-3 border-l-2 border-accent pl-4" aria-live="polite">
      <p>
        Open{" "}
        <a
          href={said.address_with_code ?? said.address}
          target="_blank"
          rel="noreferrer"
          className="underline decoration-accent decoration-2 underline-offset-4"
        >
          {said.address}
        </a>{" "}
        and let Vessik in with this code:
      </p>
      <p className="my-1 font-mono text-[26px] tracking-wider">{said.code}</p>
      <p className="text-[13px] text-soft">
        It is good until {new Date(said.until).toLocaleTimeString()}. Waiting for the host’s page…
      </p>
    </div>
  )
}

// Environments offers what the host told; those that are chosen become accounts, live ones first.
export function Environments({ said, act }: { said: HostSignIn; act: Act }) {
  const [left, setLeft] = useState<string[]>([])
  const [added, setAdded] = useState(false)
  const chosen = said.environments.filter((e) => !left.includes(e.name))
  const add = async () => {
    const known: string[] = []
    for (const e of [...chosen].sort((a, b) => Number(!!a.of) - Number(!!b.of))) {
      const body = {
        name: e.name,
        at: e.at,
        url: e.url,
        sign_in: said.id,
        environment: e.name,
        of: e.of && known.includes(e.of) ? e.of : undefined,
      }
      await answer(api.POST("/api/v1/accounts", { body }))
      known.push(e.name)
    }
    setAdded(true)
  }
  if (added) return <p className="mt-3">They are added.</p>
  if (said.environments.length === 0) return <p className="mt-3">The host tells no site of yours.</p>
  return (
    <div className="mt-3">
      {said.environments.map((e) => (
        <Choice
          key={e.name}
          name={`environment-${e.name}`}
          checked={!left.includes(e.name)}
          change={(on) => setLeft(on ? left.filter((n) => n !== e.name) : [...left, e.name])}
        >
          <span>
            {e.name} <span className="text-soft">{e.kind}</span> <Mono>{e.url}</Mono>
          </span>
        </Choice>
      ))}
      <p className="mt-2">
        <Button type="button" disabled={chosen.length === 0} onClick={() => void act(add)}>
          {`Add ${chosen.length} ${chosen.length === 1 ? "account" : "accounts"}`}
        </Button>
      </p>
    </div>
  )
}
