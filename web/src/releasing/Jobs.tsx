// Tokens with which jobs release policies, and the command that does it.
import { chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { say } from "../frame/toaster";
import { Secret, TokenList } from "../frame/Tokens";
import { Btn, Entry } from "../marks/Controls";
import { Modal } from "../marks/Modal";

export function Jobs({ close }: { close: () => void }) {
  const add = api.useMutation("post", "/api/v1/tokens");
  const [name, setName] = useState("");
  const [secret, setSecret] = useState<string>();
  const make = async () => {
    try {
      const t = await add.mutateAsync({ body: { name: name.trim(), releases: true } });
      setSecret(t.secret);
      setName("");
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
  return (
    <Modal title="Release from a job" open onClose={close} size="lg" footer={<Btn onClick={close}>Close</Btn>}>
      <Text color="soft" mb="6px">
        A job releases a policy file with a token that allows nothing else, and follows it wave by wave. The conditions
        of the waves apply to jobs too.
      </Text>
      <TokenList of={(t) => t.releases} />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void make();
        }}
      >
        <Flex gap="6px" mt="4px">
          <Entry w="200px" placeholder="name of the job" aria-label="name of the job" value={name} set={setName} />
          <Btn type="submit" disabled={!name.trim()}>
            Create a token
          </Btn>
        </Flex>
      </form>
      {secret && <Secret secret={secret} />}
      <chakra.pre fontFamily="mono" fontSize="11.5px" bg="paper" mt="10px" p="8px" overflowX="auto">
        {`orchard release --server ${location.origin} --token-file token \\
  --policy policy.orchard --title 'Boarding gates get their own store' \\
  --wave 2 --enforce --wait`}
      </chakra.pre>
    </Modal>
  );
}
