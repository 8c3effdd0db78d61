import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    outDir: "../src/windbreak/service/console",
    emptyOutDir: true,
    // Everything is served by the service, under a policy that allows no data: fonts or scripts.
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 700,
  },
});
