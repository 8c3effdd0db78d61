import { useEffect, useRef, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { api, queries, told } from "../../api/client";
import { Mark } from "../../mast/mast";
import { Glyph } from "../../states/states";

type Said = { link: string } | { account: string; password: string };

/** Signing in: by the one-time link that was opened or pasted, or by name and password. */
export function SignInPage() {
  const [failed, setFailed] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const go = useNavigate();
  const place = useLocation();
  const spent = useRef(false);

  const signIn = async (said: Said) => {
    setBusy(true);
    setFailed(null);
    try {
      await told(api.POST("/api/v1/session", { body: said }));
      queries.clear();
      const from = (place.state as { from?: string } | null)?.from;
      go(from ?? "/", { replace: true });
    } catch (error) {
      setFailed((error as Error).message);
    } finally {
      setBusy(false);
    }
  };

  useEffect(() => {
    const secret = window.location.hash.slice(1);
    if (!secret || spent.current) return;
    // A link works once; the secret leaves the address before it is spent.
    spent.current = true;
    window.history.replaceState(null, "", "/sign-in");
    void signIn({ link: secret });
  });

  const byLink = (event: React.FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const text = String(new FormData(event.currentTarget).get("link") ?? "").trim();
    void signIn({ link: text.split("#").pop() ?? "" });
  };
  const byPassword = (event: React.FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    void signIn({
      account: String(form.get("account") ?? ""),
      password: String(form.get("password") ?? ""),
    });
  };

  return (
    <main className="signin">
      <title>Sign in · Windbreak</title>
      <p className="mark">
        <Mark />
      </p>
      <h1>Sign in</h1>
      {failed && (
        <p className="said" role="alert">
          <span className="is-blocked">
            <Glyph state="blocked" />
          </span>
          <span className="q">{failed}</span>
        </p>
      )}
      <form onSubmit={byLink} className="field">
        <label htmlFor="link">Sign-in link</label>
        <div className="flex gap-2">
          <input id="link" name="link" className="in code" required autoComplete="off" />
          <button className="btn go h-8" disabled={busy}>
            Sign in
          </button>
        </div>
        <p className="hint">
          The service prints one when it starts; it signs in once. Another:{" "}
          <span className="v">windbreak sign-in-link --data DIR</span>
        </p>
      </form>
      <p className="or">
        <i />
        or
        <i />
      </p>
      <form onSubmit={byPassword}>
        <div className="pair">
          <div className="field">
            <label htmlFor="account">Name</label>
            <input id="account" name="account" className="in" required autoComplete="username" />
          </div>
          <div className="field">
            <label htmlFor="password">Password</label>
            <input
              id="password"
              name="password"
              type="password"
              className="in"
              required
              autoComplete="current-password"
            />
          </div>
        </div>
        <button className="btn" disabled={busy}>
          Sign in by password
        </button>
      </form>
      <p className="hint pt-3">
        A password is set at a terminal, by <span className="v">windbreak password</span>. Five wrong tries,
        and the name rests for a minute. Nights go on without anybody signed in.
      </p>
    </main>
  );
}
