// Small frames of the clip: ordered, and taken as they come.
import { post } from "../shared/post.js";
import { blobOf, inSight, lookQuery, notice, root } from "./state.js";

export async function ask(kind) {
  const answer = await post(`${root}film?${lookQuery()}`, { kind }).catch(() => null);
  const said = await answer?.json().catch(() => ({}));
  if (answer?.ok) return said;
  notice(said?.error || "The server does not answer; the clip's frames are not made.");
  return null;
}
// Calls `take(index, url)` for every frame until all are there or `wanted()` says no more.
export async function askFrames(board, take, wanted) {
  const have = new Set();
  while (wanted()) {
    await inSight();
    const query = `have=${[...have].join(",")}`;
    const answer = await fetch(`${root}boards/${board.board}?${query}`).catch(() => null);
    if (answer?.status === 404) return false;
    if (!answer?.ok) {
      await new Promise((r) => setTimeout(r, 1000));
      continue;
    }
    const said = await answer.json().catch(() => null);
    for (const frame of said?.frames || []) {
      have.add(frame.index);
      if (frame.png) take(frame.index, URL.createObjectURL(blobOf(frame.png)));
    }
    if (said?.done) return true;
  }
  return false;
}
