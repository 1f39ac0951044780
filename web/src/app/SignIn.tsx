import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { Notice } from "./Notice";

/** Takes the one-time token from the address's fragment, which no server log sees. */
export function SignIn() {
  const navigate = useNavigate();
  const client = useQueryClient();
  const begun = useRef(false);
  const [problem, setProblem] = useState("");
  useEffect(() => {
    if (begun.current) return;
    begun.current = true;
    const token = window.location.hash.slice(1);
    void fetch("/api/v1/sign-in", {
      method: "POST",
      headers: { "Content-Type": "application/json" },
      body: JSON.stringify({ token }),
    })
      .then(async (answer) => {
        if (!answer.ok) throw new Error(((await answer.json()) as { detail: string }).detail);
        await client.resetQueries();
        await navigate("/", { replace: true });
      })
      .catch((error: unknown) => setProblem(error instanceof Error ? error.message : "the server does not answer"));
  }, [client, navigate]);
  if (!problem) return <Notice title="Signing in …" />;
  return (
    <Notice title="This link does not sign you in">
      {problem}. Run <code>myriant sign-in</code> for a new one.
    </Notice>
  );
}
