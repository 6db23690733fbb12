// The facts that a group of checks proves, with the actions that belong to them.
import { useQuery } from "@tanstack/react-query"
import { useState, type ReactNode } from "react"
import { Link } from "wouter"
import { answer, api, of, type Check, type Site } from "./api"
import { ChangeStack } from "./Stack"
import { Mono, Word, Fact } from "./ui"
import { Domains, Rename, Scheme } from "./Addresses"
import { LoadSQL } from "./Content"
import { Commands } from "./Content"
import { SaveAs } from "./Content"
import { AsParcel } from "./Parcel"
import { SignIn } from "./Ticket"

// groupsOf are the checks by what they prove, in their order.
export const groupsOf = (checks: Check[]) =>
  [...new Set(checks.map((c) => c.group))].map((title) => ({
    title,
    checks: checks.filter((c) => c.group === title),
  }))

const list = (rows: ReactNode) => <dl className="grid grid-cols-[7rem_1fr] gap-x-3 gap-y-2">{rows}</dl>

// Lead goes to a page of the site.
const Lead = ({ site: s, page, children }: { site: Site; page: string; children: ReactNode }) => (
  <Link
    href={`/sites/${s.name}/${page}`}
    className="font-medium underline decoration-accent decoration-2 underline-offset-4 hover:text-accent"
  >
    {children}
  </Link>
)

type Shown = { site: Site; busy: boolean }

// byGroup are the facts that each group of checks proves; of a group that is not here there are none.
const byGroup: Record<string, (shown: Shown) => ReactNode> = {
  Address: AddressFacts,
  Administrator: AdministratorFacts,
  Stack: StackFacts,
  Database: DatabaseFacts,
  Folder: FolderFacts,
}

export function Facts({ group, ...shown }: Shown & { group: string }) {
  const Proven = byGroup[group]
  return Proven ? <Proven {...shown} /> : null
}

// SubSites are those of a network.
function SubSites({ site: s }: { site: Site }) {
  if (!s.network) return null
  return (
    <Fact name={s.network === "folders" ? "by sub-folder" : "by sub-domain"}>
      {(s.sub_sites ?? []).map((each) => (
        <a
          key={each}
          href={each}
          target="_blank"
          rel="noreferrer"
          className="block font-mono text-[13px] underline decoration-line-strong underline-offset-4 hover:text-accent"
        >
          {each}
        </a>
      ))}
      {!s.sub_sites?.length && "no sub-site was made with it"}
    </Fact>
  )
}

// AddressFacts lead to the site.
function AddressFacts({ site: s, busy }: Shown) {
  return (
    <>
      {list(
        <>
          <Fact name="address">
            <Mono>{s.url}</Mono>
            {s.domain_unicode && <span className="block text-[13px] text-soft">{s.domain_unicode}</span>}
          </Fact>
          <Domains site={s} busy={busy} />
          <SubSites site={s} />
          <Fact name="own port">
            <Mono>127.0.0.1:{s.port}</Mono>
          </Fact>
          <Fact name="title">{s.title}</Fact>
          {(s.language || s.time_zone) && (
            <Fact name="made with">{[s.language, s.time_zone].filter(Boolean).join(", ")}</Fact>
          )}
        </>,
      )}
      <p className="mt-4 flex flex-wrap items-baseline gap-x-6 gap-y-2">
        <a
          href={s.url}
          target="_blank"
          rel="noreferrer"
          className="font-medium underline decoration-accent decoration-2 underline-offset-4 hover:text-accent"
        >
          Open the site
        </a>
        <Rename site={s} busy={busy} />
        <Scheme site={s} busy={busy} />
      </p>
    </>
  )
}

// AdministratorFacts are of who signs in.
function AdministratorFacts({ site: s }: Shown) {
  if (!s.sign_in) return <p className="text-soft">Nothing is known of signing in to: {s.cms.title}.</p>
  return (
    <>
      {list(
        <>
          <Fact name="user">
            <Mono>{s.administrator.name}</Mono>
          </Fact>
          <Fact name="mail">
            <Mono>{s.administrator.mail}</Mono>
          </Fact>
          <Secret site={s} read={(f) => f.administrator.password} />
        </>,
      )}
      <SignIn site={s} />
    </>
  )
}

// StackFacts are of what the site runs on.
function StackFacts({ site: s, busy }: Shown) {
  return (
    <>
      <ChangeStack
        key={s.stack.php.engine + s.stack.web.engine + s.stack.database.engine}
        site={s}
        busy={busy}
      />
      <p className="mt-4 flex flex-wrap gap-x-6">
        <Lead site={s} page="settings">
          Settings
        </Lead>
        <Lead site={s} page="info">
          All that it runs on
        </Lead>
        <Lead site={s} page="trial">
          Try other stacks
        </Lead>
      </p>
    </>
  )
}

// DatabaseFacts are of its database.
function DatabaseFacts({ site: s, busy }: Shown) {
  return list(
    <>
      <Fact name="database">
        <Mono>{s.database.name}</Mono>
      </Fact>
      <Fact name="server">
        <Mono>
          {s.database.host}:{s.database.port}
        </Mono>
      </Fact>
      <Fact name="user">
        <Mono>{s.database.user}</Mono>
      </Fact>
      <Secret site={s} read={(f) => f.database.password} />
      {s.prefix && (
        <Fact name="table prefix">
          <Mono>{s.prefix}</Mono>
        </Fact>
      )}
      <LoadSQL site={s} busy={busy} />
    </>,
  )
}

// FolderFacts are of its files.
function FolderFacts({ site: s, busy }: Shown) {
  const settings = useQuery({
    queryKey: ["settings", s.name],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/settings", of({ name: s.name }))),
  }).data?.settings
  return (
    <>
      {list(
        <>
          <Fact name="folder">
            <Mono className="break-all">{s.folder}</Mono>
          </Fact>
          <Fact name="document root">
            <Mono className="break-all">{s.document_root}</Mono>
          </Fact>
          {(settings?.allow ?? []).map((dir) => (
            <Fact key={dir} name="may also use">
              <Mono className="break-all">{dir}</Mono>
            </Fact>
          ))}
          {!!settings?.helpers?.length && (
            <Fact name="local helpers">
              <Mono className="break-all">{settings.helpers.join(", ")}</Mono>
            </Fact>
          )}
        </>,
      )}
      {s.origin?.kind && (
        <p className="mt-3 text-[13px] text-soft">
          {{
            stencil: "Drawn from the stencil",
            site: "A copy of the site",
            archive: "Unpacked from",
            parcel: "Unpacked from the parcel",
            folder: "Adopted where it stands:",
          }[s.origin.kind] ?? s.origin.kind}{" "}
          <Mono className="break-all">{s.origin.from}</Mono>
        </p>
      )}
      <div className="mt-4 flex flex-wrap items-baseline gap-x-6 gap-y-2">
        <Lead site={s} page="logs">
          Logs
        </Lead>
        <SaveAs site={s} busy={busy} />
        <AsParcel site={s} />
      </div>
      <Commands site={s} />
    </>
  )
}

// Secret is asked for only when somebody wants to see it.
export function Secret({ site: s, read }: { site: Site; read: (full: Site) => string | undefined }) {
  const [shown, show] = useState(false)
  const full = useQuery({
    queryKey: ["secret", s.name],
    queryFn: () =>
      answer(
        api.GET("/api/v1/sites/{name}", { params: { path: { name: s.name }, query: { secrets: true } } }),
      ),
    enabled: shown,
    gcTime: 0,
  })
  return (
    <Fact name="password">
      {shown && full.data ? (
        <Mono className="select-all break-all">{read(full.data)}</Mono>
      ) : (
        <Word onClick={() => show(true)}>show</Word>
      )}
    </Fact>
  )
}
