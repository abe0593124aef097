import { useMutation, useQuery } from "@tanstack/react-query";
import { api, data, queryClient } from "./queries";

const again = { onSettled: () => queryClient.invalidateQueries({ queryKey: ["safe"] }) };

export const useSafe = () => useQuery({ queryKey: ["safe"], queryFn: () => data(api.GET("/api/v1/safe")) });

export const useSafeUses = () =>
  useQuery({
    queryKey: ["safe", "uses"],
    queryFn: () => data(api.GET("/api/v1/safe/uses", { params: { query: { limit: 12 } } })),
  });

const fromBase64 = (text: string) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
const toBase64 = (bytes: Uint8Array) => btoa(String.fromCharCode(...bytes));

/**
 * seal puts a passphrase into an envelope that only the process that holds the safe can open (docs/formats/safe.md:
 * HPKE, RFC 9180).
 */
async function seal(method: string, purpose: string, passphrase: string) {
  const { Aes256Gcm, CipherSuite, DhkemP256HkdfSha256, HkdfSha256 } = await import("@hpke/core");
  const suite = new CipherSuite({ kem: new DhkemP256HkdfSha256(), kdf: new HkdfSha256(), aead: new Aes256Gcm() });
  const now = await data(api.GET("/api/v1/safe")); // its key changes when it is locked
  const recipientPublicKey = await suite.kem.deserializePublicKey(fromBase64(now.public).buffer);
  const text = new TextEncoder();
  const info = text.encode(`earlybench-safe-1\n${method} ${purpose}`).buffer;
  const { enc, ct } = await suite.seal({ recipientPublicKey, info }, text.encode(passphrase).buffer);
  return { envelope: toBase64(new Uint8Array([...new Uint8Array(enc), ...new Uint8Array(ct)])) };
}

export const useMakeSafe = () =>
  useMutation({
    mutationFn: async (passphrase: string) =>
      data(api.POST("/api/v1/safe", { body: await seal("make", "", passphrase) })),
    ...again,
  });

export const useUnlockSafe = () =>
  useMutation({
    mutationFn: async (passphrase: string) =>
      data(api.POST("/api/v1/safe/unlock", { body: await seal("unlock", "", passphrase) })),
    ...again,
  });

export const useLockSafe = () => useMutation({ mutationFn: () => data(api.POST("/api/v1/safe/lock")), ...again });

export const useAnswerSafe = () =>
  useMutation({
    mutationFn: ({ id, ...body }: { id: string; yes: boolean; for_seconds?: number }) =>
      data(api.POST("/api/v1/safe/requests/{id}", { params: { path: { id } }, body })),
    ...again,
  });

export const useWithdrawSafe = () =>
  useMutation({
    mutationFn: (id: string) => data(api.DELETE("/api/v1/safe/rules/{id}", { params: { path: { id } } })),
    ...again,
  });
