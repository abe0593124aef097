import { useEndLoan, useExtendLoan, useLoans } from "../api/peers";
import type { Loan } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { hourText } from "../parts/time";

/** That a device is lent or borrowed, to or from whom and until when, and what ends or extends that. */
export function LoanBar({ handle }: { handle: string }) {
  const loan = useLoans().data?.items.find(
    (l) => l.device === handle && (l.state === "active" || l.state === "returning"),
  );
  if (!loan) return null;
  return (
    <section
      aria-label="Loan"
      className="mt-4 flex flex-wrap items-center gap-x-4 gap-y-2 rounded-lg bg-base-200 px-4 py-2"
    >
      <p>
        {loan.lent ? "Lent to " : "Borrowed from "}
        <b className="font-semibold">{loan.peer}</b>
        {loan.may === "look" && " to look at it"}
        {loan.exclusive && " with its USB, which only they can use during that time,"}
        {loan.state === "returning" ? ". It is being returned: what the borrower put on it is being removed." : ""}
        {loan.state === "active" && loan.ends && ` until ${hourText(loan.ends)}.`} {loan.why}
      </p>
      {loan.state === "active" && (loan.lent ? <Lender loan={loan} /> : <Borrower loan={loan} />)}
    </section>
  );
}

function Borrower({ loan }: { loan: Loan }) {
  const end = useEndLoan(loan.id);
  const extend = useExtendLoan(loan.id);
  return (
    <>
      <button type="button" className="press press-small" disabled={end.isPending} onClick={() => end.mutate(0)}>
        Give it back
      </button>
      <button
        type="button"
        className="press press-small"
        disabled={extend.isPending}
        onClick={() => extend.mutate(2 * 3600)}
      >
        Keep it 2 hours from now
      </button>
      <ProblemText error={end.error ?? extend.error} />
    </>
  );
}

function Lender({ loan }: { loan: Loan }) {
  const end = useEndLoan(loan.id);
  return (
    <>
      <button type="button" className="press press-small" disabled={end.isPending} onClick={() => end.mutate(300)}>
        Take it back in 5 minutes
      </button>
      <button type="button" className="press press-small" disabled={end.isPending} onClick={() => end.mutate(0)}>
        Take it back now
      </button>
      <ProblemText error={end.error} />
    </>
  );
}
