import { useState } from "react";
import { useLogIn } from "../api/network";
import type { NetworkEntry } from "../api/types";
import { Field } from "../parts/Field";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";

/** Logging in on a device by its SSH server: its key is compared first, and its password asked for only where it is needed. */
export function LoginForm({ entry }: { entry: NetworkEntry }) {
  const login = useLogIn(entry.name);
  const [password, setPassword] = useState("");
  return (
    <OwnerOnly what="Log in to it" command={`earlybench network login ${entry.name}`}>
      <form
        aria-label={`Log in on ${entry.name}`}
        className="mt-1"
        onSubmit={(e) => {
          e.preventDefault();
          login.mutate({ accept: entry.device_key, password });
          setPassword("");
        }}
      >
        <p>
          It shows the device key <span className="mono break-all">{entry.device_key}</span>. Compare it with the output
          on the device itself: <code>ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub</code>
        </p>
        {login.error && (
          <Field
            label={`Password of ${entry.login}`}
            hint="used once to add the key of this bench, and not stored"
            type="password"
            value={password}
            onChange={setPassword}
          />
        )}
        <button type="submit" className="press press-small mt-2" disabled={login.isPending}>
          The keys are the same: log in
        </button>
        <ProblemText error={login.error} />
      </form>
    </OwnerOnly>
  );
}
