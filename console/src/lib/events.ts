import { access } from './access.svelte';

export interface ServerEvent {
  id: string;
  kind: string;
  data: unknown;
}

/**
 * Follows a stream of Server-Sent Events until the signal aborts, coming back
 * with the last id when the connection is lost. `each` returns true to end it.
 */
export async function follow(
  path: string,
  signal: AbortSignal,
  each: (event: ServerEvent) => boolean | void,
  connected: (yes: boolean) => void = () => {},
): Promise<void> {
  let last = '';
  for (let pause = 500; !signal.aborted; pause = Math.min(pause * 2, 8000)) {
    try {
      const headers: Record<string, string> = { Accept: 'text/event-stream' };
      if (access.token) headers.Authorization = `Bearer ${access.token}`;
      if (last) headers['Last-Event-ID'] = last;
      const response = await fetch(path, { headers, signal });
      if (!response.ok || !response.body) throw new Error(response.statusText);
      connected(true);
      pause = 500;
      for await (const event of read(response.body)) {
        if (event.id) last = event.id;
        if (each(event)) return;
      }
    } catch {
      if (signal.aborted) return;
    }
    connected(false);
    await new Promise((resolve) => setTimeout(resolve, pause));
  }
}

async function* read(body: ReadableStream<Uint8Array>): AsyncGenerator<ServerEvent> {
  const reader = body
    .pipeThrough(new TextDecoderStream() as unknown as TransformStream<Uint8Array, string>)
    .getReader();
  let text = '';
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    text += value;
    for (let end = text.indexOf('\n\n'); end >= 0; end = text.indexOf('\n\n')) {
      const event: ServerEvent = { id: '', kind: 'message', data: null };
      for (const line of text.slice(0, end).split('\n')) {
        if (line.startsWith('id: ')) event.id = line.slice(4);
        if (line.startsWith('event: ')) event.kind = line.slice(7);
        if (line.startsWith('data: ')) event.data = JSON.parse(line.slice(6));
      }
      text = text.slice(end + 2);
      if (event.data !== null) yield event;
    }
  }
}
