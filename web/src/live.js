// The wire to the command that serves this page: JSON both ways, and runs as packed bytes.

const WAIT = 500;

/** Connects with the token of this page's address; again where the wire breaks. `told` gets objects and ArrayBuffers. */
export function connect(told, changed) {
  const token = new URLSearchParams(location.search).get('token') ?? '';
  let socket = null;
  let closed = false;
  const open = () => {
    socket = new WebSocket(`ws://${location.host}/live?token=${encodeURIComponent(token)}`);
    socket.binaryType = 'arraybuffer';
    socket.onopen = () => changed(true);
    socket.onmessage = ({ data }) => told(typeof data === 'string' ? JSON.parse(data) : data);
    socket.onclose = () => {
      changed(false);
      if (!closed) setTimeout(open, WAIT);
    };
  };
  open();
  return {
    send: (message) => {
      if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(message));
    },
    close: () => {
      closed = true;
      socket?.close();
    },
  };
}
