// Writes the licences of every package that went into the bundle; told by the bundler's own account.
import { existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';

const [, , account, target] = process.argv;
const names = new Set();
for (const path of Object.keys(JSON.parse(readFileSync(account)).inputs)) {
  const last = path.split('node_modules/').slice(1).pop();
  if (last) names.add(last.startsWith('@') ? last.split('/').slice(0, 2).join('/') : last.split('/')[0]);
}
const parts = ['viewer.js holds these packages beside its own code.'];
for (const name of [...names].sort()) {
  const folder = `node_modules/${name}`;
  const about = JSON.parse(readFileSync(`${folder}/package.json`));
  const file = readdirSync(folder).find((f) => /^(licen[cs]e|copying)/i.test(f));
  const text = file && existsSync(`${folder}/${file}`) ? readFileSync(`${folder}/${file}`, 'utf8').trim() : `Licence: ${about.license}`;
  parts.push(`---- ${name} ${about.version} (${about.license})\n\n${text}`);
}
writeFileSync(target, `${parts.join('\n\n')}\n`);
