// The same in JavaScript, without a library.
let next = 1;

async function call(method, params) {
  const answer = await fetch(process.env.PENDEL_ADDRESS, {
    method: "POST",
    headers: { Authorization: `Bearer ${process.env.PENDEL_TOKEN}`, "Content-Type": "application/json" },
    body: JSON.stringify({ jsonrpc: "2.0", id: next++, method, params }),
  });
  if (!answer.ok) throw new Error(await answer.text());
  const { result, error } = await answer.json();
  if (error) throw new Error(error.message);
  return result;
}

await call("drive.set", { name: "K_p", value: "30 A*s/m" });
const { run } = await call("drive.run", { until: "50 ms" });
const trace = await call("run.trace", { run, signal: "door_motor.current" });
console.log(trace.y.reduce((a, b) => Math.max(a, b)));
