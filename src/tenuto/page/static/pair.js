// A new device shows the code once. Its key is kept in a cookie that no script can read.

const code = document.getElementById("code");
const said = document.getElementById("said");
const found = /code=(\d{8})/.exec(location.hash);
if (found) {
  code.value = found[1];
  history.replaceState(null, "", "/");
}

async function pair() {
  const name = document.getElementById("name").value || deviceName();
  try {
    const answer = await fetch("/pair", {
      method: "POST",
      headers: { "Content-Type": "application/json" },
      body: JSON.stringify({ code: code.value, name }),
    });
    const { text } = await answer.json();
    said.textContent = text;
    if (answer.ok) location.assign("/");
  } catch {
    said.textContent = "The robot does not answer. Is this device in its network?";
  }
}

function deviceName() {
  return /Android|iPhone|Mobile/.test(navigator.userAgent) ? "a phone" : "a computer";
}

document.getElementById("go").addEventListener("click", pair);
code.addEventListener("keydown", (event) => event.key === "Enter" && pair());
