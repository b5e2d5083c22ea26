// Fills the commands in with this service's address and the code. The code comes in the part of the address behind “#”,
// which browsers keep to themselves.
const field = document.getElementById('code')
const told = document.getElementById('told')

function show() {
  const code = field.value.trim().toUpperCase() || '…'
  document.getElementById('join').textContent =
    `portero-endpoint join --service ${location.origin} \\\n  --code ${code}`
}

async function check() {
  told.textContent = ''
  const code = field.value.trim().toUpperCase()
  if (!code) return
  const answer = await fetch('/join/check', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ code }),
  }).catch(() => null)
  const body = answer ? await answer.json().catch(() => ({})) : { detail: 'The service does not answer.' }
  told.className = answer?.ok ? 'good' : 'bad'
  told.textContent = body.sentence ?? body.detail
}

field.value = decodeURIComponent(location.hash.slice(1))
field.addEventListener('input', show)
document.getElementById('check').addEventListener('submit', (event) => {
  event.preventDefault()
  void check()
})
show()
if (field.value) void check()
