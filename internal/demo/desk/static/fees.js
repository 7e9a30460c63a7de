// Works the fee out in the page, when the browser has a moment to spare.
const form = document.getElementById("calculator");
form.addEventListener("submit", (event) => {
  event.preventDefault();
  requestIdleCallback(() => {
    const field = (name) => Number(form.elements.namedItem(name).value);
    const length = field("length"), nights = field("nights");
    const pence = 320 * length * nights * (nights >= 7 ? 0.9 : 1);
    document.getElementById("fee").textContent = (Math.floor(pence) / 100).toFixed(2);
  });
});
