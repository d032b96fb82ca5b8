import { useQuery } from "@tanstack/react-query";
import { Result, Spin } from "antd";
import { ask, client, Problem } from "./api/client";
import { House } from "./House";
import { SignIn } from "./pages/signin/SignIn";

/** Lets signed-in people into the house and asks everyone else for the token. */
export function Gate() {
  const session = useQuery({
    queryKey: ["session"],
    queryFn: () => ask(client.GET("/session")),
    retry: false,
    staleTime: Infinity,
  });
  if (session.isPending) return <Spin fullscreen />;
  if (session.data) return <House name={session.data.name} />;
  if (session.error instanceof Problem && session.error.status === 401) return <SignIn />;
  return <Result status="warning" title="The service does not answer" subTitle="This page tries again when it is reloaded." />;
}
