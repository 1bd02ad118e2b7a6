/** Whether a file is a script: they end in .yamato, and ended in .suite before. */
export const isScript = (name: string) => /\.(yamato|suite)$/.test(name);
