// Choosing a berth shows a card instead of leaving the map.
const card = document.getElementById("card");
for (const berth of document.querySelectorAll(".berth")) {
  berth.addEventListener("click", (event) => {
    event.preventDefault();
    berth.scrollIntoViewIfNeeded();
    const id = berth.querySelector("b").textContent;
    card.querySelector("h2").textContent = "Berth " + id;
    card.querySelector(".facts").textContent = "Up to " + berth.dataset.length + " m" + (berth.dataset.shore === "true" ? ", shore power" : "");
    card.querySelector(".go").href = "/berths/" + id;
    card.hidden = false;
  });
}
