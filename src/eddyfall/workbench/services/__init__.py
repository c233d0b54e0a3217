"""Use cases: one module each for builds, sweeps, cases, line-ups, the ledger, proofs and hand-over."""
