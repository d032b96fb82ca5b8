import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Doorway } from "../../parts/Doorway";
import { SignInForm } from "../../parts/SignInForm";

/** Why somebody who comes back from a provider was not let in; said once. */
function takeRefused() {
  const found = /(?:^|; )jugate_refused=([^;]*)/.exec(document.cookie);
  document.cookie = "jugate_refused=; path=/; max-age=0; secure";
  return found && decodeURIComponent(found[1].replaceAll("+", " "));
}

export function SignIn() {
  const queries = useQueryClient();
  const [refused] = useState(takeRefused);
  return (
    <Doorway>
      <SignInForm refused={refused} done={() => void queries.invalidateQueries({ queryKey: ["session"] })} />
    </Doorway>
  );
}
