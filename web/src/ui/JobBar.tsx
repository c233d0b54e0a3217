import type { Job } from "../api/client";

/** How far something has come; without a share it is only under way. */
export function Bar({
  name,
  share,
  className = "w-full",
}: {
  name: string;
  share?: number;
  className?: string;
}) {
  return (
    <progress
      className={`progress progress-primary ${className}`}
      {...(share === undefined ? {} : { value: share, max: 1 })}
      aria-label={name}
    />
  );
}

/** A job under way: how far it is and what it does. */
export function JobBar({ name, job, className = "" }: { name: string; job: Job; className?: string }) {
  return (
    <p role="status" className={className}>
      <span className="num">{Math.round(job.progress * 100)} %</span> {job.message}
      <Bar name={name} share={job.progress} />
    </p>
  );
}
