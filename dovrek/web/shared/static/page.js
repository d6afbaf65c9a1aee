// What every page shares: the notice line, and a word about files too large to send.
"use strict";
let noticeTimer = 0;
window.dovrekNotice = (text) => {
  const line = document.getElementById("notice");
  clearTimeout(noticeTimer);
  line.textContent = text;
  line.hidden = !text;
  if (text)
    noticeTimer = setTimeout(() => {
      line.hidden = true;
    }, 9000);
};
document.addEventListener("submit", (event) => {
  const most = event.target.dataset;
  const file = most.limit && event.target.querySelector("input[type=file]").files[0];
  const limit = Number((file && file.name.endsWith(".zip") && most.zipLimit) || most.limit);
  if (file && file.size > limit) {
    event.preventDefault();
    window.dovrekNotice(
      `${file.name} has ${(file.size / 1e6).toFixed(0)} MB, too large for a sky; ` +
        "choose a sky exported as JSON.",
    );
  }
});
