// Labels texts, one a line, by a sorter that upsort export wrote: node score.mjs desk.json < letters.txt
// docs/export.md says what is in desk.json.
import { readFileSync, realpathSync } from "node:fs";

const compiled = new Map();
function regex(pattern, anyCase = false) {
  const key = `${anyCase}${pattern}`;
  if (!compiled.has(key)) compiled.set(key, new RegExp(pattern, anyCase ? "giu" : "gu"));
  return compiled.get(key);
}

function character(step, name) {
  if (name in step.characters) return step.characters[name];
  if (name[0] === "#") {
    const code = /^#x/i.test(name) ? parseInt(name.slice(2), 16) : /^#[0-9]+;?$/.test(name) ? parseInt(name.slice(1), 10) : NaN;
    if (Number.isNaN(code)) return `&${name}`;
    if (`#${code}` in step.characters) return step.characters[`#${code}`];
    return code > 0x10ffff || (code >= 0xd800 && code <= 0xdfff) ? "\ufffd" : String.fromCodePoint(code);
  }
  for (let end = name.length - 1; end > 1; end--) {
    if (name.slice(0, end) in step.characters) return step.characters[name.slice(0, end)] + name.slice(end);
  }
  return `&${name}`;
}

function withoutMarkup(step, text) {
  const begins = new RegExp(step.markup, "gi");
  let result = "", at = 0, match;
  while ((match = begins.exec(text)) !== null) {
    const { comment, silent, broken } = match.groups;
    if (broken !== undefined) continue;
    let until = begins.lastIndex;
    const kind = comment ?? (silent !== undefined && !match[0].endsWith("/>") ? silent.toLowerCase() : "");
    if (kind) {
      const ends = new RegExp(step.ends[kind], "gi");
      ends.lastIndex = until;
      if (ends.exec(text) !== null) until = ends.lastIndex;
      else if (comment !== undefined) continue;
    }
    const named = match[0][0] === "&" ? character(step, match[0].slice(1)).replace(/[\ue000\ue001]/g, " ") : " ";
    result += text.slice(at, match.index) + named;
    at = begins.lastIndex = until;
  }
  return result + text.slice(at);
}

function cleaned(cleaning, step, text) {
  if ("markup" in step) return withoutMarkup(step, text);
  if ("normal_form" in step) return text.normalize(step.normal_form);
  if ("lower" in step) return step.lower ? text.toLocaleLowerCase(step.lower) : text.toLowerCase();
  if ("outside_tokens" in step) {
    const either = new RegExp(`(${cleaning.token})|${step.outside_tokens}`, "gu");
    return text.replace(either, (found, token) => (token === undefined ? step.by : token));
  }
  const pattern = regex(step.pattern, step.any_case);
  if (typeof step.by === "string") return text.replace(pattern, step.by);
  return text.replace(pattern, (...found) => {
    const groups = found[found.length - 1];
    return step.by[Object.keys(step.by).find((name) => groups[name] !== undefined)];
  });
}

function formed(cleaning, step, word) {
  if ("left_out" in step) return step.left_out.includes(word.replaceAll("’", "'")) ? "" : word;
  if ("forms" in step) return Object.hasOwn(step.forms, word) ? step.forms[word] : word;
  if (!("lengths" in step)) return word[0] === "{" ? word : shown(cleaning, cleaned(cleaning, step, word).replace(/\s/gu, ""));
  const [least, most] = step.lengths, length = [...word].length;
  return length >= least && (!most || length <= most) ? word : "";
}

const shown = (cleaning, word) => [...word].map((sign) => cleaning.shown[sign] ?? sign).join("");

export function tokensOf(cleaning, text) {
  for (const step of cleaning.steps) text = cleaned(cleaning, step, text);
  let words = (text.match(regex(cleaning.token)) ?? []).map((word) => shown(cleaning, word));
  for (const step of cleaning.words) words = words.map((word) => word && formed(cleaning, step, word));
  return words.filter((word) => word);
}

export function scored(rule, text) {
  const tokens = tokensOf(rule.cleaning, text), counts = new Map(), [shortest, longest] = rule.lengths;
  for (let length = shortest; length <= longest; length++) {
    for (let begin = 0; begin + length <= tokens.length; begin++) {
      const term = tokens.slice(begin, begin + length).join(" ");
      if (Object.hasOwn(rule.terms, term)) counts.set(term, (counts.get(term) ?? 0) + 1);
    }
  }
  const sum = (numbers) => numbers.reduce((total, number) => total + number, 0);
  const total = sum([...counts.values()]), most = Math.max(...counts.values(), 1), [k, b, mean] = rule.saturation ?? [0, 0, 1];
  const frequency = {
    n: (n) => n, b: () => 1, l: (n) => 1 + Math.log10(n), a: (n) => 0.5 + (0.5 * n) / most, s: (n) => n / total,
    bm25: (n) => (n * (k + 1)) / (n + k * (1 - b + (b * total) / mean)),
  }[rule.term_frequency];
  let values = [...counts].map(([term, count]) => [term, frequency(count) * rule.terms[term].factor]);
  const size = { n: 1, c: Math.sqrt(sum(values.map(([, v]) => v * v))), s: sum(values.map(([, v]) => v)) }[rule.length] || 1;
  values = values.map(([term, value]) => [term, rule.on_presence ? Number(value !== 0) : value / size]);
  const scores = rule.intercept.map((offset, label) => offset + sum(values.map(([term, v]) => v * rule.terms[term].weights[label])));
  const { kind, slopes, offsets } = rule.calibration, logistic = (x) => 1 / (1 + Math.exp(-x));
  const each = scores.map((s, label) => logistic(kind === "platt" ? slopes[label] * s + offsets[label] : s));
  if (rule.thresholds) return [rule.labels.filter((_, label) => each[label] >= rule.thresholds[label]), each];
  const grown = scores.map((s) => Math.exp((s - Math.max(...scores)) * (kind === "temperature" ? slopes[0] : 1)));
  let probabilities = kind === "platt" ? each.map((p) => p / sum(each)) : grown.map((g) => g / sum(grown));
  let ranked = rule.by_probabilities ? probabilities : scores;
  if (rule.shares_without_terms && !values.length) probabilities = ranked = rule.shares_without_terms;
  const rounded = (x) => Math.round(x * 1e12) / 1e12;
  if (rule.decision) ranked = scores.map((_, given) => rounded(sum(probabilities.map((p, label) => p * rule.decision[label][given]))));
  const best = rule.order.reduce((found, label) => (ranked[label] > ranked[found] ? label : found), rule.order[0]);
  return [probabilities[best] < rule.undecided_below ? "(undecided)" : rule.labels[best], probabilities];
}

if (process.argv[1] && import.meta.url === `file://${realpathSync(process.argv[1])}`) {
  const rule = JSON.parse(readFileSync(process.argv[2], "utf8"));
  for (const line of readFileSync(0, "utf8").split("\n").slice(0, -1)) {
    const [label, probabilities] = scored(rule, line);
    console.log(`${[].concat(label).join("; ")}\t${Math.max(...probabilities).toFixed(6)}`);
  }
}
