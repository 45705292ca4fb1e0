import { useState } from "react";

import { Dialog } from "../ui/Dialog";
import { FolderList } from "../ui/FolderList";
import { NewFolder } from "./NewFolder";

interface Props {
  place: string;
  isOpen: boolean;
  onClose: () => void;
  onTake: (folder: string) => void;
}

/** Picks a folder of a place by going there; one that is missing is made there. */
export function FolderDialog({ place, isOpen, onClose, onTake }: Props) {
  const [folder, setFolder] = useState("");
  return (
    <Dialog title={`A folder of ${place}`} open={isOpen} onClose={onClose}>
      <FolderList place={place} folder={folder} onFolder={setFolder} />
      <NewFolder key={folder} place={place} folder={folder} onMade={setFolder} />
      <p className="flex gap-2 pt-3">
        <button
          type="button"
          className="btn btn-sm btn-primary"
          onClick={() => {
            onTake(folder);
            onClose();
          }}
        >
          Take {folder ? `“${folder}”` : "the root"}
        </button>
        <button type="button" className="btn btn-ghost btn-sm" onClick={onClose}>
          Cancel
        </button>
      </p>
    </Dialog>
  );
}
