// The grid of a page that flows, as its style has it.
export const COLUMNS = 12;
/** px of a row and the line under it. */
export const ROW = 57;
