/** The words of a list as people write it: with blanks, commas or both between them. */
export const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
