import { readFileSync } from "node:fs";

const { args } = JSON.parse(readFileSync(0, "utf8"));
if (args.speed_kn > 60) {
  console.error(`${args.speed_kn} knots`);
  process.exit(4);
}
console.log(JSON.stringify({ hours: Math.round((args.miles / args.speed_kn) * 100) / 100 }));
