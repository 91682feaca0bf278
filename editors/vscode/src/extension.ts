// Yield Tray in VS Code: starts the language server, shows responses beside the file, asks what the server wants
// to know. All the rest is the server's, through the official language client.

import * as vscode from "vscode";
import { LanguageClient, ServerOptions, LanguageClientOptions } from "vscode-languageclient/node";
import { ANSWER, Question, TARGETS, about, isAnswer, startFailure, startOptions, formOf } from "./pure";

let client: LanguageClient | undefined;

const COMMANDS = ["send", "sendWithNeeds", "judge", "replay", "environment", "stop"];

/** Answers as documents that cannot be changed: their files are read anew whenever one is shown. */
class Answers implements vscode.TextDocumentContentProvider {
  private readonly changed = new vscode.EventEmitter<vscode.Uri>();
  readonly onDidChange = this.changed.event;

  async provideTextDocumentContent(uri: vscode.Uri): Promise<string> {
    const bytes = await vscode.workspace.fs.readFile(uri.with({ scheme: "file" }));
    return new TextDecoder().decode(bytes);
  }

  async show(file: vscode.Uri): Promise<boolean> {
    const uri = file.with({ scheme: ANSWER });
    this.changed.fire(uri);
    const document = await vscode.workspace.openTextDocument(uri);
    await vscode.window.showTextDocument(document, {
      viewColumn: vscode.ViewColumn.Beside,
      preserveFocus: true,
      preview: true,
    });
    return true;
  }
}

async function ask(question: Question): Promise<string | null> {
  const how = formOf(question);
  if (how.kind === "confirm") {
    return (await vscode.window.showWarningMessage(how.message, { modal: true }, how.yes)) ?? null;
  }
  if (how.kind === "pick") {
    return (await vscode.window.showQuickPick(how.items, { title: how.title, ignoreFocusOut: true })) ?? null;
  }
  const { prompt, value, password } = how;
  return (await vscode.window.showInputBox({ prompt, value, password, ignoreFocusOut: true })) ?? null;
}

/** Carries a command out for the request that the cursor stands in, or for its file. */
async function here(command: string): Promise<void> {
  const editor = vscode.window.activeTextEditor;
  if (!client || !editor) {
    return;
  }
  const line = editor.selection.active.line;
  const argument = about(command, editor.document.uri.toString(), line);
  try {
    await client.sendRequest("workspace/executeCommand", { command: `yieldtray.${command}`, arguments: [argument] });
  } catch (error) {
    void vscode.window.showErrorMessage(error instanceof Error ? error.message : String(error));
  }
}

/** Asks the server for something, and shows why it was refused. */
async function execute(command: string, argument: object): Promise<unknown> {
  try {
    return await client?.sendRequest("workspace/executeCommand", { command, arguments: [argument] });
  } catch (error) {
    void vscode.window.showErrorMessage(error instanceof Error ? error.message : String(error));
    return undefined;
  }
}

/** Copies the request that the cursor stands in as code of a language that is picked. */
async function copyAs(): Promise<void> {
  const editor = vscode.window.activeTextEditor;
  const target = editor && (await vscode.window.showQuickPick(TARGETS, { title: "Copy the request as" }));
  if (!editor || !target) {
    return;
  }
  const argument = { uri: editor.document.uri.toString(), line: editor.selection.active.line, as: target };
  const answer = (await execute("yieldtray.handOver", argument)) as { text: string } | undefined;
  if (answer) {
    await vscode.env.clipboard.writeText(answer.text);
  }
}

/** Takes shell commands of the clipboard in, as requests at the end of the file. */
async function takeIn(): Promise<void> {
  const editor = vscode.window.activeTextEditor;
  if (editor) {
    const text = await vscode.env.clipboard.readText();
    await execute("yieldtray.takeIn", { uri: editor.document.uri.toString(), text });
  }
}

/** Says why the server cannot be started; a program that is not there is named with the setting that names it. */
async function tellWhyNot(program: string, error: unknown): Promise<void> {
  const { message, settings } = startFailure(program, error instanceof Error ? error.message : String(error));
  if (!settings) {
    void vscode.window.showErrorMessage(message);
    return;
  }
  const chosen = await vscode.window.showErrorMessage(message, "Open the setting");
  if (chosen) {
    await vscode.commands.executeCommand("workbench.action.openSettings", "yieldtray.program");
  }
}

export async function activate(context: vscode.ExtensionContext): Promise<void> {
  const settings = vscode.workspace.getConfiguration("yieldtray");
  const program = settings.get<string>("program", "yieldtray");
  const answers = new Answers();
  const serverOptions: ServerOptions = { command: program, args: ["lsp"] };
  const clientOptions: LanguageClientOptions = {
    documentSelector: [
      { scheme: "file", language: "yieldtray" },
      { scheme: "file", pattern: "**/yieldtray.toml" },
      { scheme: "file", pattern: "**/yieldtray.local.toml" },
    ],
    initializationOptions: startOptions(settings.get<boolean>("hints", true)),
    middleware: {
      // An error is shown once, with its message.
      executeCommand: async (command, args, next) => {
        try {
          return await next(command, args);
        } catch (error) {
          void vscode.window.showErrorMessage(error instanceof Error ? error.message : String(error));
          return undefined;
        }
      },
      window: {
        showDocument: async (params, token, next) => {
          const file = vscode.Uri.parse(params.uri);
          return isAnswer(file.path) ? { success: await answers.show(file) } : next(params, token);
        },
      },
    },
  };
  client = new LanguageClient("yieldtray", "Yield Tray", serverOptions, clientOptions);
  context.subscriptions.push(
    vscode.workspace.registerTextDocumentContentProvider(ANSWER, answers),
    vscode.commands.registerCommand("yieldtray.here.copyAs", copyAs),
    vscode.commands.registerCommand("yieldtray.here.takeIn", takeIn),
    ...COMMANDS.map((command) => vscode.commands.registerCommand(`yieldtray.here.${command}`, () => here(command))),
  );
  client.onRequest("yieldtray/ask", ask);
  try {
    await client.start();
  } catch (error) {
    await tellWhyNot(program, error);
  }
}

export async function deactivate(): Promise<void> {
  await client?.stop();
}
