export function LineUpButtons(props: {
  progress: { share: number; what: string } | null;
  run: (all: boolean) => void;
  ready: boolean;
}) {
  return (
    <div className="flex gap-2 ml-auto shrink-0">
      <button
        type="button"
        className="btn btn-xs btn-primary"
        disabled={!props.ready || props.progress !== null}
        onClick={() => props.run(false)}
      >
        {props.progress ? `Line-up ${Math.round(props.progress.share * 100)} %` : "Line-up"}
        <kbd>L</kbd>
      </button>
      <button
        type="button"
        className="btn btn-xs"
        disabled={!props.ready || props.progress !== null}
        onClick={() => props.run(true)}
      >
        Try all
      </button>
    </div>
  );
}
