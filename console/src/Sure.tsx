// Sure asks before rows are changed, and takes a restore point first where somebody wants one.
import { useState } from "react"
import { answer, api, of, told } from "./api"
import { Button, Word } from "./ui"

async function restorePoint(name: string) {
  const body = { note: "before rows are changed" }
  let taking = await answer(api.POST("/api/v1/sites/{name}/restore", { ...of({ name }), body }))
  while (taking.state === "running") {
    await new Promise((later) => setTimeout(later, 300))
    taking = (await answer(api.GET("/api/v1/operations/{id}", of({ id: taking.id })))) as typeof taking
  }
  if (taking.state !== "done") throw new Error("The restore point could not be taken; see Operations.")
}

export function Sure({
  name,
  rows,
  go,
  leave,
}: {
  name: string
  rows?: number
  go: () => void
  leave: () => void
}) {
  const [taken, setTaken] = useState<string>()
  const take = () => {
    setTaken("A restore point is being taken…")
    return restorePoint(name).then(
      () => setTaken("A restore point is taken."),
      (error: unknown) => setTaken(told(error)),
    )
  }
  return (
    <p role="status" className="mt-3 flex flex-wrap items-baseline gap-x-5 border-l-4 border-accent pl-3">
      {rows === undefined
        ? "It could not be tried out first."
        : `This changes ${rows === 1 ? "1 row" : `${rows} rows`}.`}{" "}
      {taken ?? <Word onClick={() => void take()}>take a restore point first</Word>}
      <Button onClick={go}>Change them</Button>
      <Word onClick={leave}>leave them</Word>
    </p>
  )
}
