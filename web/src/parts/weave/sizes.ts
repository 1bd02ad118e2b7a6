export const narrowest = 26;

export const widest = 132;

export const levelHeight = 22;

export const rowHeight = 24;

export const suiteHeight = 30;

export const bandHeight = 26;

/** Below the levels: a line, and room for the marks of what runs while something does. */
export const footHeight = 6;

export const busyHeight = 18;
