const text = document.getElementById("text"), show = document.getElementById("show");
const rows = [...document.querySelectorAll(".wall tbody tr")], told = [...document.querySelectorAll("#failures article")];
const narrow = () => {
  const t = text.value.toLowerCase();
  for (const r of rows)
    r.hidden = !r.firstChild.textContent.toLowerCase().includes(t) || (show.value === "bad" && !r.classList.contains("bad"));
  for (const a of told) a.hidden = !a.querySelector(".test").textContent.toLowerCase().includes(t);
};
text.addEventListener("input", narrow);
show.addEventListener("change", narrow);
text.form.addEventListener("submit", (e) => e.preventDefault());
