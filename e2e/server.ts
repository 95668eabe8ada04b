// Starts the real program on a folder of its own and waits for its address.

import { type ChildProcess, spawn } from 'node:child_process';
import { chmodSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { createInterface } from 'node:readline';
import { expect, type Page } from '@playwright/test';

export const NAME = 'Plant engineer';
export const PASSWORD = 'kelp-and-salt';

export interface Server {
  url: string;
  /** The address that carries the one-time code for the first account; the plain one where there is an account. */
  entrance: string;
  /** Port of the simulated controller. */
  controller: number;
  /** Where the stand-ins for mail and web hooks show what they received. */
  received: string;
  folder: string;
  stop: () => Promise<void>;
  /** Ends the program and starts it anew on the same data and port. */
  restart: () => Promise<void>;
}

/** Creates the first account, on the page that the address of a new server opens. */
export async function enter(page: Page, server: Server): Promise<void> {
  await page.goto(server.entrance);
  await page.getByLabel('Name').fill(NAME);
  await page.getByLabel('Password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Create account' }).click();
  // Whoever asks the server directly after this is signed in.
  await expect(page.getByRole('contentinfo')).toBeVisible({ timeout: 30_000 });
}

/** Shows every value of the chosen place on the board, not its areas in short. */
export async function cards(page: Page): Promise<void> {
  await page.locator('main button[aria-pressed]').getByText('Cards', { exact: true }).click();
}

/** A folder that the database's user can reach. */
export function folder(): string {
  const made = mkdtempSync(join(tmpdir(), 'havrel-e2e-'));
  chmodSync(made, 0o755);
  return made;
}

export async function start(args: string[], data = folder()): Promise<Server> {
  let child = run(args, data);
  const { url, entrance, controller, received } = await address(child);
  const end = () =>
    new Promise<void>((done) => {
      child.once('exit', () => done());
      child.kill('SIGINT');
    });
  return {
    url,
    entrance,
    controller,
    received,
    folder: data,
    stop: async () => {
      await end();
      rmSync(data, { recursive: true, force: true });
    },
    restart: async () => {
      await end();
      child = run([...args, '--port', new URL(url).port], data);
      await address(child);
    },
  };
}

function run(args: string[], data: string): ChildProcess {
  const program = resolve(import.meta.dirname, '../target/debug/havrel');
  const port = args.includes('--port') ? [] : ['--port', '8420'];
  return spawn(program, ['demo', '--data', data, ...port, ...args], { stdio: ['ignore', 'pipe', 'inherit'] });
}

function address(child: ChildProcess): Promise<{ url: string; entrance: string; controller: number; received: string }> {
  return new Promise((found, failed) => {
    let controller = 0;
    let received = '';
    child.once('exit', (code) => failed(new Error(`the server ended with ${code} before it was ready`)));
    if (!child.stdout) return;
    createInterface({ input: child.stdout }).on('line', (line) => {
      controller = Number(/Extraction .*port (\d+), unit id/.exec(line)?.[1] ?? controller);
      received = /received show on (http:\S+)/.exec(line)?.[1] ?? received;
      const entrance = /open (http:\S+)/.exec(line)?.[1];
      if (entrance) found({ url: new URL(entrance).origin, entrance, controller, received });
    });
  });
}
