import { Dialog } from "radix-ui";
import { type ReactNode } from "react";
import { Button } from "./parts";

/** Something that is opened over the page and closed again. */
export function Panel({
  title,
  about,
  trigger,
  children,
}: {
  title: string;
  about: string;
  trigger: ReactNode;
  children: ReactNode;
}) {
  return (
    <Dialog.Root>
      <Dialog.Trigger asChild>{trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-black/50" />
        <Dialog.Content className="fixed top-16 left-1/2 z-30 max-h-[80vh] w-[44rem] max-w-[94vw] -translate-x-1/2 overflow-y-auto rounded-md border border-line bg-sheet p-5 shadow-xl">
          <div className="flex items-start gap-4">
            <div>
              <Dialog.Title className="text-base font-medium">{title}</Dialog.Title>
              <Dialog.Description className="mt-1 text-sm text-soft">{about}</Dialog.Description>
            </div>
            <Dialog.Close asChild>
              <Button className="ml-auto">Close</Button>
            </Dialog.Close>
          </div>
          <div className="mt-4 grid gap-4">{children}</div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
