/** Whether a comment has to stay with the code. */
export function isLicence(comment: string): boolean {
  return /^!|@(?:license|licence|preserve|copyright)\b/i.test(comment);
}
