/** Asks the harbour's API. The page and the API share one origin, so cookies simply work. */
export async function request<Answer>(path: string, body?: unknown): Promise<Answer> {
  const response = await fetch(`/api${path}`, {
    method: body === undefined ? 'GET' : 'POST',
    ...(body === undefined ? {} : { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } }),
  });
  if (!response.ok) throw new Error(`The harbour office answered ${response.status}.`);
  return (await response.json()) as Answer;
}
