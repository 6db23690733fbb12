// Sessions are the browsers that are signed in to the console; each can be signed out.
import { useQuery } from "@tanstack/react-query"
import { answer, api, of, queries, signOut, type Session } from "./api"
import { Word } from "./ui"

const when = (time: string) => new Date(time).toLocaleString("sv").slice(0, 16)

export function Sessions() {
  const sessions =
    useQuery({ queryKey: ["sessions"], queryFn: () => answer(api.GET("/api/v1/sessions")) }).data ?? []
  if (sessions.length === 0) return null
  const end = async (s: Session) => {
    if (s.own) return signOut()
    await answer(api.DELETE("/api/v1/sessions/{id}", of({ id: s.id })))
    await queries.invalidateQueries({ queryKey: ["sessions"] })
  }
  return (
    <section className="mb-6" aria-label="Signed in">
      <h2 className="border-b border-line-strong pb-1 text-[15px] font-semibold">
        Browsers that are signed in
      </h2>
      <ul>
        {sessions.map((s) => (
          <li
            key={s.id}
            className="grid md:grid-cols-[11rem_minmax(0,1fr)_auto] items-baseline gap-x-4 border-b border-line py-1.5"
          >
            <span>
              {s.browser}
              {s.own && <span className="block text-[13px] text-soft">this one</span>}
            </span>
            <span className="text-soft">
              since {when(s.started_at)}, last used {when(s.used_at)}
            </span>
            <Word onClick={() => void end(s)}>Sign out</Word>
          </li>
        ))}
      </ul>
    </section>
  )
}
