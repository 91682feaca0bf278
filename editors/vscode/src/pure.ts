// Functions that do not use the editor.

/** A question of the server, as `yieldtray/ask` carries it. */
export interface Question {
  kind: "confirm" | "choice" | "text";
  name: string | null;
  question: string;
  secret: boolean;
  default: string | null;
  choices: string[];
}

/** The form in which a question is shown. */
export type QuestionForm =
  | { kind: "confirm"; message: string; yes: string }
  | { kind: "pick"; items: string[]; title: string }
  | { kind: "type"; prompt: string; value: string; password: boolean };

export function formOf(question: Question): QuestionForm {
  // Whether something is sent that cannot be taken back: a question that stays until it is answered.
  if (question.kind === "confirm") {
    return { kind: "confirm", message: question.question, yes: question.choices[0] ?? "OK" };
  }
  if (question.choices.length > 0) {
    return { kind: "pick", items: question.choices, title: question.question };
  }
  return { kind: "type", prompt: question.question, value: question.default ?? "", password: question.secret };
}

/** What the server is told at its start. */
export function startOptions(hints: boolean): { asks: true; hints: boolean } {
  return { asks: true, hints };
}

/** The scheme of answers: documents that can be looked at and not changed. */
export const ANSWER = "yieldtray-answer";

/** Whether a file that the server shows is an answer, not a question to be written into. */
export function isAnswer(path: string): boolean {
  return /[\\/]\.yieldtray[\\/]answers[\\/]/.test(path);
}

/** What a request can be handed over as; `yieldtray export --targets` tells what each is. */
export const TARGETS = [
  "shell", "powershell", "javascript", "typescript", "python", "python-requests", "go", "rust", "java", "csharp",
  "ruby", "php", "kotlin", "swift", "c", "http", "har",
];

/** What a command of the server is about: the line of the cursor, or the whole file. */
export function about(command: string, uri: string, line: number): { uri: string; line?: number } {
  return ["send", "sendWithNeeds", "judge"].includes(command) ? { uri, line } : { uri };
}

/** What is said where the server cannot be started, and whether the setting that names it is to blame. */
export function startFailure(program: string, why: string): { message: string; settings: boolean } {
  if (why.includes("ENOENT")) {
    const message = `Yield Tray: the program "${program}" is not there. Install it, or name it in the setting "yieldtray.program".`;
    return { message, settings: true };
  }
  return { message: `Yield Tray: "${program} lsp" cannot be started: ${why}`, settings: false };
}
