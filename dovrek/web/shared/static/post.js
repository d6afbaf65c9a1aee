// What changes something: sent with the page's token, and once more with a new one when the server
// no longer knows it.
let token = document.body.dataset.token;

export async function post(url, body) {
  const form = body instanceof FormData;
  const ask = () =>
    fetch(url, {
      method: "POST",
      body: form ? body : JSON.stringify(body),
      headers: { "X-Token": token, ...(form ? {} : { "Content-Type": "application/json" }) },
    });
  const answer = await ask();
  if (answer.status !== 403) return answer;
  const said = await answer
    .clone()
    .json()
    .catch(() => ({}));
  if (!said.token) return answer;
  token = said.token;
  document.body.dataset.token = token;
  document.body.setAttribute("hx-headers", JSON.stringify({ "X-Token": token }));
  return ask();
}
