import { useGet, type SessionEntry } from "../../data/api";

export function useEntries(number: number) {
  return useGet<SessionEntry[]>(`sessions/${number}/entries`, { staleTime: 0 });
}
