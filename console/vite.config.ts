import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // Fonts stay files of their own: the service's policy allows no data: fonts.
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 1200 },
});
