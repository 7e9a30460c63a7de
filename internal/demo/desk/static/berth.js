const free = document.querySelector("output[data-berth]");
document.getElementById("ask").addEventListener("click", async () => {
  free.textContent = "asking …";
  const answer = await (await fetch("/availability/" + free.dataset.berth)).json();
  free.textContent = answer.free ? "free for " + answer.nights + " nights" : "taken";
});
