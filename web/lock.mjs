// Makes package-lock.json anew from package.json, and takes out where each package
// came from: whoever installs has a registry of their own.
import { execSync } from "node:child_process";
import { readFileSync, writeFileSync } from "node:fs";

execSync("npm install --package-lock-only --no-omit-lockfile-registry-resolved", { stdio: "inherit" });
const lock = JSON.parse(readFileSync("package-lock.json", "utf8"));
for (const p of Object.values(lock.packages)) delete p.resolved;
writeFileSync("package-lock.json", JSON.stringify(lock, null, 2) + "\n");
