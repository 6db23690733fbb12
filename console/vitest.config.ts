import react from "@vitejs/plugin-react"
import { defineConfig } from "vitest/config"

export default defineConfig({
  plugins: [react()],
  test: {
    isolate: false,
    fileParallelism: false,
    environment: "jsdom",
    environmentOptions: { jsdom: { url: "http://vessik.localhost:20070/" } },
  },
})
