const again = 1000; // milliseconds from the end of a stream to its next beginning

/**
 * follow reads a stream of the service's messages over a WebSocket, and opens it again where it breaks, until the
 * function that it returns is called. A browser keeps only six connections of the other kind, for all its windows
 * together, which streams would use up.
 */
export function follow<T>(
  path: () => string,
  on: { message: (message: T) => void; open?: () => void; end?: () => void },
): () => void {
  let socket: WebSocket;
  let timer: number | undefined;
  let left = false;
  const begin = () => {
    socket = new WebSocket(new URL(path(), window.location.origin.replace(/^http/, "ws")));
    socket.onopen = () => on.open?.();
    socket.onmessage = (e: MessageEvent<string>) => {
      for (const line of e.data.split("\n")) on.message(JSON.parse(line) as T);
    };
    socket.onclose = () => {
      if (left) return;
      on.end?.();
      timer = window.setTimeout(begin, again);
    };
  };
  begin();
  return () => {
    left = true;
    window.clearTimeout(timer);
    socket.close();
  };
}
