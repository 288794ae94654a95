/** Short words for what agreement says. */
const SHORT: Record<string, string> = {
  same: "same",
  "same, other order": "same",
  "same within tolerance": "same",
  "same values, other types": "types differ",
  different: "different",
  "no answer": "no answer",
};

export function verdictWord(agreement: { verdict: string; itself?: boolean }): string {
  return agreement.itself ? "reference" : (SHORT[agreement.verdict] ?? agreement.verdict);
}
