// What a site's owner says of it.
import { useState } from "react"
import { answer, api, queries, told, type Site } from "./api"

// About is what its owner says of it: group, note, and whether it is pinned.
export function About({ site: s }: { site: Site }) {
  const [group, setGroup] = useState(s.group)
  const [note, setNote] = useState(s.note)
  const [fault, setFault] = useState("")
  const set = async (change: { group?: string; note?: string; pinned?: boolean }) => {
    try {
      await answer(api.POST("/api/v1/sites/label", { body: { names: [s.name], ...change } }))
      setFault("")
      await queries.invalidateQueries()
    } catch (refused) {
      setFault(told(refused))
    }
  }
  const looks =
    "border-b border-transparent bg-transparent placeholder:text-faint hover:border-line-strong focus:border-line-strong"
  return (
    <form
      className="mt-1 flex items-baseline gap-x-5 text-[14px]"
      onSubmit={(e) => {
        e.preventDefault()
        void set({ group, note })
      }}
    >
      <input
        name="group"
        value={group}
        onChange={(e) => setGroup(e.target.value)}
        onBlur={() => group !== s.group && set({ group })}
        placeholder="in no group"
        aria-label="Group"
        className={`w-44 ${looks}`}
      />
      <input
        name="note"
        value={note}
        onChange={(e) => setNote(e.target.value)}
        onBlur={() => note !== s.note && set({ note })}
        placeholder="a note…"
        aria-label="Note"
        className={`min-w-0 grow ${looks}`}
      />
      <label className="flex items-center gap-1.5 text-soft">
        <input
          type="checkbox"
          className="accent-(--accent)"
          checked={s.pinned}
          onChange={(e) => set({ pinned: e.target.checked })}
        />{" "}
        pinned
      </label>
      <button type="submit" className="sr-only">
        Save
      </button>
      {fault && (
        <span role="alert" className="text-[13px] text-fail">
          {fault}
        </span>
      )}
    </form>
  )
}
