import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Modal } from "antd";
import { useEffect } from "react";
import { ask, client, type Session } from "../api/client";
import { useSignedOut, welcomeBack } from "../api/signedOut";
import { SignInForm } from "./SignInForm";

/** Asks for a sign-in over the page when the session has ended; what was typed below stays, and what was asked for is asked again. */
export function SignInAgain({ session }: { session: Session }) {
  const queries = useQueryClient();
  const out = useSignedOut();
  const back = (now: Session) => {
    if (now.name !== session.name) {
      location.reload(); // what is on the page is not theirs
      return;
    }
    welcomeBack();
    void queries.invalidateQueries();
  };
  // They may sign in in another window.
  const other = useQuery({ queryKey: ["session", "again"], queryFn: () => ask(client.GET("/session")), enabled: out, retry: false, refetchInterval: 3000, gcTime: 0 });
  const found = out && other.isSuccess ? other.data : undefined;
  useEffect(() => {
    if (found) back(found);
  });
  return (
    <Modal open={out} destroyOnHidden zIndex={2000} closable={false} footer={null} title="Your session has ended">
      <p>Sign in again: what you have typed is still there, and what you asked for is done then.</p>
      <SignInForm name="again" stay done={back} />
    </Modal>
  );
}
