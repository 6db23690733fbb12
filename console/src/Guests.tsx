// Guests: who is invited to a site, by which address, what they may, and what they asked.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, queries, told, useImage, useSites, type Invitation } from "./api"
import { Copies } from "./Copies"
import { InviteForm } from "./InviteForm"
import { Remarks } from "./Remarks"
import { Crumbs, Fact, Mono, Notice, Word } from "./ui"

const look = 2000 // how often what guests do is read, in milliseconds

export const useInvitations = (site: string) =>
  useQuery({
    queryKey: ["invitations", site],
    queryFn: async () =>
      (await answer(api.GET("/api/v1/invitations", { params: { query: { site } } }))) ?? [],
    refetchInterval: look,
  })

export function GuestsPage({ name }: { name: string }) {
  const site = useSites().data?.find((s) => s.name === name)
  const invitations = useInvitations(name)
  const [made, setMade] = useState<Invitation>()
  const standing = invitations.data ?? []
  return (
    <>
      <Crumbs name={name} here="guests" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">Guests of {name}</h1>
      <p className="mt-1 max-w-3xl text-soft">
        An invitation lends the site another address for a time. Nothing of the site changes; mail still goes
        to the mailbox; search engines are told to stay out.
      </p>
      {invitations.isError && <Notice tone="fail">{invitations.error.message}</Notice>}
      {site && site.state !== "running" && (
        <Notice>The site does not run now: guests see a page that waits for it.</Notice>
      )}
      {standing.map((i) => (
        <Standing key={i.id} invitation={i} open={i.id === made?.id} />
      ))}
      <InviteForm key={made?.id} name={name} running={site?.state === "running"} done={setMade} />
      <Remarks name={name} invitation={standing.find((i) => i.remarks)} />
      <Copies name={name} />
      <Asked name={name} />
    </>
  )
}

// left is how long it still is until a moment, in words.
export function left(until: string, now = Date.now()): string {
  const minutes = Math.max(0, Math.round((Date.parse(until) - now) / 60000))
  if (minutes < 60) return `${minutes} min`
  if (minutes < 48 * 60) return `${Math.floor(minutes / 60)} h ${minutes % 60} min`
  return `${Math.round(minutes / 60 / 24)} days`
}

// may is what guests may do by an invitation.
export function may(i: Pick<Invitation, "only" | "read_only" | "no_sign_in">): string {
  if (i.only) return `see ${i.only} alone`
  if (i.read_only) return "look only"
  return i.no_sign_in ? "do all but sign in" : "do all that a visitor may"
}

function Standing({ invitation: i, open: begins }: { invitation: Invitation; open: boolean }) {
  const [open, setOpen] = useState(begins)
  const [fault, setFault] = useState<string>()
  const end = () =>
    answer(api.DELETE("/api/v1/invitations/{id}", of({ id: i.id })))
      .then(() => queries.invalidateQueries({ queryKey: ["invitations"] }))
      .catch((error: unknown) => setFault(told(error)))
  return (
    <section aria-label={`Invitation ${i.id}`} className="mt-5 border-t border-line-strong pt-3">
      <p className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <a
          href={i.address}
          target="_blank"
          rel="noreferrer"
          className="font-mono text-[15px] break-all underline underline-offset-4"
        >
          {i.address}
        </a>
        <span className={i.reached ? "text-soft" : "font-semibold text-fail"}>
          {i.reached ? `open for ${left(i.until)}` : "the line to the relay does not stand"}
        </span>
        <Word aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "hide" : "password and code"}
        </Word>
        <Word className="text-fail" onClick={() => void end()}>
          end it
        </Word>
      </p>
      <p className="mt-1 text-[13px] text-soft">
        Guests may {may(i)}
        {i.asks ? "" : ", without a password"}. {i.guests} let in, {i.requests} requests
        {i.refused > 0 && `, ${i.refused} of them refused`}.{i.note && ` “${i.note}”`}
      </p>
      {fault && <Notice tone="fail">{fault}</Notice>}
      {open && <Code id={i.id} />}
    </section>
  )
}

// Code is what guests need: the password, and the address as a picture for a phone.
function Code({ id }: { id: string }) {
  const picture = useImage(`/invitations/${id}/qr.png`)
  const one = useQuery({
    queryKey: ["invitation", id],
    queryFn: () => answer(api.GET("/api/v1/invitations/{id}", of({ id }))),
  }).data
  return (
    <div className="mt-3 flex flex-wrap items-start gap-6">
      {picture && <img src={picture} alt="The address as a QR code" className="size-44 bg-white" />}
      <dl className="grid grid-cols-[7rem_1fr] gap-x-3 gap-y-1">
        <Fact name="Password">{one?.password ? <Mono>{one.password}</Mono> : "none is asked for"}</Fact>
        {one?.fingerprint && (
          <Fact name="Certificate">
            <Mono className="break-all">{one.fingerprint}</Mono>
          </Fact>
        )}
        {Object.entries<string>(one?.others ?? {}).map(([domain, address]) => (
          <Fact key={domain} name={domain}>
            <a
              href={address}
              target="_blank"
              rel="noreferrer"
              className="break-all underline underline-offset-4"
            >
              <Mono>{address}</Mono>
            </a>
          </Fact>
        ))}
        <Fact name="Made by">{one?.who ?? ""}</Fact>
      </dl>
    </div>
  )
}

function Asked({ name }: { name: string }) {
  const asked =
    useQuery({
      queryKey: ["guests", name],
      queryFn: async () => (await answer(api.GET("/api/v1/sites/{name}/guests", of({ name })))) ?? [],
      refetchInterval: look,
    }).data ?? []
  if (asked.length === 0) return null
  return (
    <section className="mt-8">
      <h2 className="mb-1 text-[15px] font-semibold">What guests asked</h2>
      <ol className="font-mono text-[12.5px]">
        {asked.slice(0, 100).map((g, n) => (
          <li
            key={n}
            className="grid grid-cols-[7rem_minmax(0,1fr)_3rem] gap-x-4 border-t border-line py-1 sm:grid-cols-[7rem_9rem_minmax(0,1fr)_3rem]"
          >
            <span className="text-soft">{new Date(g.at).toLocaleString("sv").slice(5)}</span>
            <span className="truncate text-soft max-sm:hidden">{g.guest}</span>
            <span className="min-w-0 break-all">
              {g.method} {g.address}
              {g.refused && <span className="text-fail"> {g.refused}</span>}
            </span>
            <span className={g.status >= 400 ? "text-right text-fail" : "text-right"}>{g.status}</span>
          </li>
        ))}
      </ol>
    </section>
  )
}
