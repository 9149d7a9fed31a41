// What browsers have and TypeScript's library for pages does not list: workers' own things, and pickers that some have.

interface FileSystemSyncAccessHandle {
  write(bytes: Uint8Array, options: { at: number }): number;
  close(): void;
}

interface FileSystemFileHandle {
  createSyncAccessHandle(): Promise<FileSystemSyncAccessHandle>;
}

interface DedicatedWorkerGlobalScope {
  onmessage: ((event: MessageEvent) => void) | null;
  postMessage(message: unknown, transfer: Transferable[]): void;
}

interface Uint8ArrayConstructor {
  fromBase64?(text: string): Uint8Array<ArrayBuffer>;
}

interface DataTransferItem {
  getAsFileSystemHandle?(): Promise<FileSystemHandle | null>;
}

interface Window {
  showSaveFilePicker?(options: { suggestedName: string }): Promise<FileSystemFileHandle>;
  showDirectoryPicker?(options: { mode: 'readwrite' }): Promise<FileSystemDirectoryHandle>;
}
