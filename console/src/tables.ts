// What pages of a site's database share: what is in it, and where its tables are shown.
import { useQuery } from "@tanstack/react-query"
import { answer, api } from "./api"

export const tablePath = (name: string, table: string) =>
  `/sites/${name}/database/${encodeURIComponent(table)}`

export const useDatabase = (name: string, columns = false) =>
  useQuery({
    queryKey: ["database", name, columns],
    queryFn: () =>
      answer(api.GET("/api/v1/sites/{name}/database", { params: { path: { name }, query: { columns } } })),
    retry: false,
  })
