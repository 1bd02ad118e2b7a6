import { useEffect, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { handIn } from "../data/uploads";
import type { Build } from "../data/api";

/** Takes packages that are dropped anywhere, and shows what becomes of them. */
export function DropZone() {
  const [over, setOver] = useState(false);
  const navigate = useNavigate();
  const { pathname } = useLocation();
  useEffect(() => {
    let depth = 0;
    const files = (e: DragEvent) => e.dataTransfer?.types.includes("Files");
    const enter = (e: DragEvent) => {
      if (!files(e)) return;
      depth++;
      setOver(true);
    };
    const leave = () => {
      depth = Math.max(0, depth - 1);
      if (depth === 0) setOver(false);
    };
    const hover = (e: DragEvent) => files(e) && e.preventDefault();
    const drop = (e: DragEvent) => {
      depth = 0;
      setOver(false);
      const list = [...(e.dataTransfer?.files ?? [])];
      if (list.length === 0) return;
      e.preventDefault();
      const inHand = /^\/by-hand\/\d+$/.test(pathname); // it is installed on that device
      void handIn(list).then(
        (builds) => inHand && window.dispatchEvent(new CustomEvent<Build[]>("yamato.handed-in", { detail: builds })),
      );
      if (!inHand && pathname !== "/builds") void navigate("/builds");
    };
    window.addEventListener("dragenter", enter);
    window.addEventListener("dragleave", leave);
    window.addEventListener("dragover", hover);
    window.addEventListener("drop", drop);
    return () => {
      window.removeEventListener("dragenter", enter);
      window.removeEventListener("dragleave", leave);
      window.removeEventListener("dragover", hover);
      window.removeEventListener("drop", drop);
    };
  }, [navigate, pathname]);
  if (!over) return null;
  return (
    <div className="pointer-events-none fixed inset-0 z-50 grid place-items-center bg-shade">
      <div className="card border-2 border-dashed border-ink px-10 py-8 text-center">
        <p className="text-xl font-semibold">Drop packages here</p>
        <p className="text-soft">
          .apk, .ipa, a zipped simulator app or web bundle; several of one version make one build
        </p>
      </div>
    </div>
  );
}
