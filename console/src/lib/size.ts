/** How many bytes something has, as the service writes it. */
export function size(bytes: number): string {
  const units = ["B", "kB", "MB", "GB", "TB"];
  let n = bytes;
  let unit = 0;
  while (n >= 999.95 && unit < units.length - 1) {
    n /= 1000;
    unit++;
  }
  return `${unit ? n.toFixed(1) : n} ${units[unit]}`;
}
