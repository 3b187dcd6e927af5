import type { ServiceView } from "../api/client";

/** A person is needed: the sentry alone says when. */
export const needsAttention = (service: ServiceView) => service.attention != null;

/** The state as a shape and a word; colour only where a person is needed. */
export function StateMark({ service }: { service: ServiceView }) {
  const asks = needsAttention(service);
  return (
    <span className={asks ? "state attention" : "state"}>
      <svg
        width="12"
        height="12"
        viewBox="0 0 12 12"
        aria-hidden="true"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.6"
      >
        {asks ? <path d="M6 1 11.2 11H.8Z" fill="currentColor" /> : shapes[service.state]}
      </svg>
      {service.state}
      {service.health === "poor" && ", poor"}
    </span>
  );
}

const shapes: Partial<Record<ServiceView["state"], React.ReactNode>> = {
  running: <path d="M1 7.5c1.7-4 3.3-4 5 0s3.3 4 5 0" />,
  starting: <path d="M2 10 10 2M5 2h5v5" />,
  stopping: <path d="M2 2l8 8M10 5v5H5" />,
  waiting: <path d="M6 2.5V6l2.5 2M6 1a5 5 0 1 0 0 10A5 5 0 0 0 6 1Z" strokeWidth="1.2" />,
  resting: <path d="M1 6h10" strokeDasharray="2 2.5" />,
  stopped: <path d="M1 6h10" />,
};
