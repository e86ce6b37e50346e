// Requests to Veduta. Every failure becomes an Error whose message a person can act on.

/** @param {string} name */
export function cookie(name) {
  const found = document.cookie.split("; ").find((part) => part.startsWith(`${name}=`));
  return found?.split("=")[1] ?? "";
}

export class Problem extends Error {
  /**
   * @param {string} message
   * @param {number} status of HTTP, 0 where nothing answered
   * @param {any} data
   */
  constructor(message, status, data = {}) {
    super(message);
    this.status = status;
    this.data = data;
  }
}

/** Waits until somebody says that they are signed in again; rejects if they stay out. */
function signedInAgain() {
  return new Promise((resolve, reject) => {
    const decided = new AbortController();
    /** @param {() => void} act */
    const then = (act) => () => {
      decided.abort();
      act();
    };
    const out = () => reject(new Problem("You are signed out. Sign in again; your work is kept.", 401));
    document.addEventListener(
      "veduta:try-again",
      then(() => resolve(null)),
      { signal: decided.signal },
    );
    document.addEventListener("veduta:stays-out", then(out), { signal: decided.signal });
    document.dispatchEvent(new CustomEvent("veduta:signed-out"));
  });
}

/**
 * Asks the server; where the session has ended, asks again once somebody has signed in.
 * @param {string} address
 * @param {RequestInit} options
 * @returns {Promise<Response>}
 */
async function request(address, options) {
  let response;
  try {
    response = await fetch(address, {
      ...options,
      headers: { "X-Veduta": "1", "X-CSRFToken": cookie("csrftoken"), ...options.headers },
    });
  } catch (error) {
    if (error instanceof Error && error.name === "AbortError") throw error;
    throw new Problem("The server cannot be reached. Your work is kept here; try again in a moment.", 0);
  }
  if (response.ok) return response;
  const data = response.headers.get("Content-Type")?.includes("json") ? await response.json() : {};
  if (response.status === 401 || (response.status === 403 && !data.message)) {
    await signedInAgain();
    return request(address, options);
  }
  const message = [data.message, data.hint].filter(Boolean).join(" ") || "That did not work. Try again.";
  throw new Problem(message, response.status, data);
}

/** @param {unknown} data */
function body(data) {
  return { method: "POST", body: JSON.stringify(data), headers: { "Content-Type": "application/json" } };
}

/**
 * @param {string} address
 * @param {unknown} data
 * @param {RequestInit} options
 */
export async function post(address, data = {}, options = {}) {
  return (await request(address, { ...body(data), ...options })).json();
}

/**
 * Sends a file as the body of a request.
 * @param {string} address
 * @param {File} file
 */
export async function postFile(address, file) {
  const headers = { "Content-Type": "application/octet-stream", "X-File-Name": encodeURIComponent(file.name) };
  return (await request(address, { method: "POST", body: file, headers })).json();
}

/**
 * Sends what stands in a form as the browser would; the answer says where to go on.
 * @param {HTMLFormElement} form
 * @param {HTMLElement | null} submitter
 */
export async function postForm(form, submitter) {
  const fields = new URLSearchParams(/** @type {any} */ (new FormData(form, submitter)));
  return (await request(form.action, { method: "POST", body: fields })).json();
}

/**
 * @param {string} address
 * @param {unknown} data
 */
export async function postForHtml(address, data = {}) {
  return (await request(address, body(data))).text();
}

/**
 * @param {string} address
 * @param {RequestInit} options
 */
export async function getHtml(address, options = {}) {
  return (await request(address, options)).text();
}

/**
 * @param {string} address
 * @param {RequestInit} options
 */
export async function getJson(address, options = {}) {
  return (await request(address, options)).json();
}

/**
 * An answer of one JSON value a line, each as soon as it has come.
 * @param {string} address
 * @param {RequestInit} options
 */
export async function* getLines(address, options = {}) {
  const { body: stream } = await request(address, options);
  if (!stream) return;
  yield* jsonLines(stream.pipeThrough(new TextDecoderStream()));
}

/**
 * @param {ReadableStream<string>} stream
 * @returns {AsyncGenerator<any>}
 */
export async function* jsonLines(stream) {
  const reader = stream.getReader();
  let rest = "";
  for (;;) {
    const { value, done } = await reader.read();
    const lines = (rest + (value ?? "")).split("\n");
    rest = lines.pop() ?? "";
    for (const line of lines) yield JSON.parse(line);
    if (done) return;
  }
}

/**
 * For one place that asks again and again, whose answers may come in another order than they were asked for.
 * @returns {() => () => boolean} Begins a question, and gives what tells whether it is still the last one.
 */
export function numberQuestions() {
  let last = 0;
  return () => {
    last += 1;
    const own = last;
    return () => own === last;
  };
}
