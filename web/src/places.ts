/** A place: what the navigation shows, and the letter that goes there after `g`. */
export type Place = { name: string; path: string; key: string };

const at = (name: string, path: string, key: string): Place => ({ name, path, key });
export const now = at("Now", "/", "n");
export const runs = at("Runs", "/runs", "r");
export const plans = at("Plans", "/plans", "p");
export const suites = at("Suites", "/suites", "s");
export const builds = at("Builds", "/builds", "b");
export const fleet = at("Fleet", "/fleet", "f");
export const lineups = at("Lineups", "/lineups", "l");
export const byHand = at("By hand", "/by-hand", "h");
export const overTime = at("Over time", "/over-time", "t");

/** The places, as the navigation shows them. */
export const places: Place[] = [now, runs, plans, suites, builds, fleet, lineups, byHand, overTime];
