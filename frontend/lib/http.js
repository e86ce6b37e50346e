// Requests to Veduta. Every failure becomes an Error whose message a person can act on.

function cookie(name) {
  return document.cookie.split("; ").find((part) => part.startsWith(`${name}=`))?.split("=")[1] ?? "";
}

export class Problem extends Error {
  constructor(message, status, data = {}) {
    super(message);
    this.status = status;
    this.data = data;
  }
}

async function request(address, options) {
  let response;
  try {
    response = await fetch(address, {
      ...options,
      headers: { "X-Veduta": "1", "X-CSRFToken": cookie("csrftoken"), ...options.headers },
    });
  } catch (error) {
    if (error.name === "AbortError") throw error;
    throw new Problem("The server cannot be reached. Your work is kept here; try again in a moment.", 0);
  }
  if (response.ok) return response;
  const data = response.headers.get("Content-Type")?.includes("json") ? await response.json() : {};
  if (response.status === 401 || (response.status === 403 && !data.message)) {
    document.dispatchEvent(new CustomEvent("veduta:signed-out"));
    throw new Problem("You are signed out. Sign in again; your work is kept.", 401, data);
  }
  const message = [data.message, data.hint].filter(Boolean).join(" ") || "That did not work. Try again.";
  throw new Problem(message, response.status, data);
}

function body(data) {
  return { method: "POST", body: JSON.stringify(data), headers: { "Content-Type": "application/json" } };
}

export const post = async (address, data = {}, options = {}) => (await request(address, { ...body(data), ...options })).json();
export const postForHtml = async (address, data = {}) => (await request(address, body(data))).text();
export const getHtml = async (address, options = {}) => (await request(address, options)).text();
export const getJson = async (address, options = {}) => (await request(address, options)).json();

// An answer of one JSON value a line, each as soon as it has come.
export async function* getLines(address, options = {}) {
  const reader = (await request(address, options)).body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { value, done } = await reader.read();
    const lines = (rest + (value ?? "")).split("\n");
    rest = lines.pop();
    for (const line of lines) yield JSON.parse(line);
    if (done) return;
  }
}

export { cookie };
