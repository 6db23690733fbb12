// Signing in to a site without typing.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, queries, told, useCMS, type Site } from "./api"
import { Button, Notice, Word } from "./ui"

// follow draws a ticket for one of a site's users, its administrator where none is named, and goes where it leads.
export async function follow(s: Site, as?: string) {
  const page = window.open("", "_blank")
  try {
    const ticket = await answer(
      api.POST("/api/v1/sites/{name}/tickets", { ...of({ name: s.name }), body: { as } }),
    )
    if (page) page.location.href = ticket.url
    else location.href = ticket.url
  } catch (error) {
    page?.close()
    throw error
  }
}

// useTicket signs in to a site; there is no signIn where nothing is known of that.
export function useTicket(s: Site) {
  const [fault, setFault] = useState<string>()
  const known = useCMS().data?.cms.find((k) => k.name === s.cms.name)?.signs_in
  const signIn = (as?: string) => {
    setFault(undefined)
    return follow(s, as).catch((error: unknown) => setFault(told(error)))
  }
  return { signIn: known && s.state === "running" ? signIn : undefined, fault, setFault, known }
}

// SignIn draws a ticket for one of the site's users and follows it at once.
export function SignIn({ site: s }: { site: Site }) {
  const users = useQuery({
    queryKey: ["users", s.name],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/users", of({ name: s.name }))),
    retry: false,
  })
  const [as, setAs] = useState("")
  const { signIn, fault, setFault, known } = useTicket(s)
  if (!known) return null
  const foreign = users.data?.find(
    (u) => u.login === as && u.role === "administrator" && u.login !== s.administrator.name,
  )
  const replace = async () => {
    try {
      await answer(
        api.PUT("/api/v1/sites/{name}/administrator", { ...of({ name: s.name }), body: { replace: as } }),
      )
      setAs("")
      setFault(undefined)
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <div className="mt-4 flex flex-wrap items-center gap-3">
      <Button tone="strong" disabled={!signIn} onClick={() => void signIn?.(as || undefined)}>
        Sign in
      </Button>
      <label className="flex items-baseline gap-2 text-[13px] text-soft">
        as
        <select
          name="as"
          value={as}
          onChange={(e) => setAs(e.target.value)}
          className="border-b border-line-strong bg-transparent py-0.5 font-mono text-[13px] text-ink"
        >
          <option value="">its administrator</option>
          {users.data?.map((u) => (
            <option key={u.login} value={u.login}>
              {u.login}
              {u.role && `, ${u.role}`}
            </option>
          ))}
        </select>
      </label>
      <span className="text-[13px] text-soft">without a password, by a ticket that is good once</span>
      {foreign && (
        <Word
          className="text-[13px]"
          title={`${as} becomes ${s.administrator.name}, with everything that it wrote and a password of its own`}
          onClick={replace}
        >
          replace by the site's own, {s.administrator.name}
        </Word>
      )}
      {fault && <Notice tone="fail">{fault}</Notice>}
    </div>
  )
}
