import { seconds } from "../../data/time";
import { useEffect, useRef, useState } from "react";
import { evidencePath, framePath, type Evidence, type SheetAttempt } from "../../data/api";
import { Strip } from "./evidence";

type PicturesProps = {
  run: number;
  a: SheetAttempt;
  index: number;
  when: number;
  chosen: boolean;
  onMoment: (ms: number) => void;
};

/** The picture of the moment, with the strip of all pictures below it. */
export function Pictures({ run, a, index, when, chosen, onMoment }: PicturesProps) {
  const failure = a.evidence.find((e) => e.sort === "picture" && e.name === "failure" && e.case_index === index);
  const named = a.evidence.filter((e) => e.sort === "picture" && e.name !== "failure" && e.case_index === index);
  const frames = a.frames;
  let nearest = -1;
  for (let i = 0; i < frames.length; i++) if (frames[i]!.at_ms <= when + 1) nearest = i;
  if (nearest < 0 && frames.length > 0) nearest = 0;
  const [shown, setShown] = useState<Evidence>();
  const [moving, setMoving] = useState(false);
  useEffect(() => setShown(undefined), [when]);
  const atFailure = !shown && failure && (!chosen || nearest === frames.length - 1);
  const pick = shown ?? (atFailure ? failure : undefined);
  const frame = pick ? undefined : frames[nearest];
  const video = a.evidence.find((e) => e.sort === "video" && e.case_index === index && !e.gone);
  if (!pick && !frame && !video) return null;
  const marked = (a.result?.failure?.candidates?.length ?? 0) > 0;
  const words =
    !pick && !frame
      ? ""
      : pick
        ? pick.name === "failure"
          ? `where it failed${marked ? ", the place marked" : ""}`
          : pick.name
        : `at ${seconds(frame!.at_ms)} s`;
  return (
    <div className="flex w-[238px] flex-none flex-col border-l border-rule px-3 pt-2">
      {video && (
        <div role="group" aria-label="How the screen is shown" className="flex flex-none gap-2 pb-1 text-sm">
          {["Picture", "Video"].map((t) => (
            <button
              key={t}
              aria-pressed={moving === (t === "Video")}
              onClick={() => setMoving(t === "Video")}
              className="border-b border-transparent text-soft aria-pressed:border-ink aria-pressed:text-ink"
            >
              {t}
            </button>
          ))}
        </div>
      )}
      {video && moving && <Film src={evidencePath(run, video.id)} when={when} onMoment={onMoment} />}
      <div className={`min-h-0 flex-1 ${video && moving ? "hidden" : ""}`}>
        {(pick || frame) && (
          <img
            key={pick ? pick.id : `${frame!.evidence}/${frame!.index}`}
            src={pick ? evidencePath(run, pick.id) : framePath(run, frame!)}
            alt={`The screen ${words}`}
            className="max-h-full max-w-full rounded border border-rule object-contain object-top"
          />
        )}
      </div>
      {!(video && moving) && <p className="flex-none py-1 text-sm text-soft">The screen {words}</p>}
      <Strip run={run} frames={frames} nearest={atFailure || shown ? -1 : nearest} onMoment={onMoment} />
      {named.length > 0 && (
        <p className="flex-none pb-1 text-sm">
          {named.map((e) => (
            <button key={e.id} className="link mr-2" onMouseEnter={() => setShown(e)} onClick={() => setShown(e)}>
              {e.name}
            </button>
          ))}
        </p>
      )}
    </div>
  );
}

/** The video of a case. Its time is the case's: it goes where something is pointed at, and takes the sheet along while it plays. */
function Film({ src, when, onMoment }: { src: string; when: number; onMoment: (ms: number) => void }) {
  const film = useRef<HTMLVideoElement>(null);
  useEffect(() => {
    const v = film.current;
    if (v && v.paused && Math.abs(v.currentTime * 1000 - when) > 20) v.currentTime = when / 1000;
  }, [when]);
  return (
    <div className="min-h-0 flex-1">
      <video
        ref={film}
        src={src}
        controls
        muted
        preload="auto"
        aria-label="Video of the case"
        className="max-h-full max-w-full rounded border border-rule"
        onLoadedMetadata={(e) => (e.currentTarget.currentTime = when / 1000)}
        onTimeUpdate={(e) => !e.currentTarget.paused && onMoment(e.currentTarget.currentTime * 1000)}
      />
    </div>
  );
}
